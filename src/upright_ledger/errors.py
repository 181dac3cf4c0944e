"""The errors a user can cause or meet, as one tree.

    UprightError
    ├── UsageError      exit 2: the command was called in a way that cannot work
    │   └── RefusedError    the ledger or a server form does not allow it
    └── InputError      exit 3: a file, database or service could not be read
        ├── NoAddressesError    there is no address in it, or it is no text
        └── DatabaseError   the ledger's own database failed

Every message says what happened and where; `hint` says what to do. A command that worked and
*found* faults is no error: it returns exit code 1 by itself.
"""

from __future__ import annotations


class UprightError(Exception):
    """Something a user can understand and act on.

    `hint` is a second sentence that says what to do, or an empty string.
    """

    exit_code = 2

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message, hint)
        self.message = message
        self.hint = hint

    def __str__(self) -> str:
        return self.message


class UsageError(UprightError):
    """The call cannot work as it stands."""

    exit_code = 2


class RefusedError(UsageError):
    """The call is understood and refused, because it would do harm."""


class InputError(UprightError):
    """A file, a database or a service could not be read."""

    exit_code = 3


class NoAddressesError(InputError):
    """A file can be read, and holds nothing that is wanted of it."""


class DatabaseError(InputError):
    """The database of the ledger failed: nothing else can be done with it now."""


class LostError(DatabaseError):
    """The connection to the database was lost, before a step was made complete."""


class NoWorkersError(InputError):
    """Those who were to do the work are gone: what is not done yet cannot be done now."""
