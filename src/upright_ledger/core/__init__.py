"""The heart of the job: URL identity, matching, the meaning of rules, verdicts.

Nothing in here knows files, sockets, databases or terminals.
"""
