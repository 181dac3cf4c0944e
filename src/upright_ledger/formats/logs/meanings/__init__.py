"""What the words of a log mean, whatever its form: names of values, times, and what programs say of
failures.
"""
