"""The meaning of rules: answers as they were given, what is compiled of them, templates, and what
is proved of all URLs there are.
"""
