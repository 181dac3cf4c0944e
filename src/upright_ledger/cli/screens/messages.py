"""Messages about what changed, on the screen: what they say, where they went, and what failed."""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.app.messages import Delivered
from upright_ledger.cli.terminal import output
from upright_ledger.core.monitoring.changes import News, body_of


def say_news(found: Sequence[News], read: str, shown: str = "upright triage") -> None:
    """What changed, as in the message; nothing where nothing did. read: what was read, in words;
    shown: the command that shows all of it.
    """
    for line in body_of(found, read, shown).splitlines() if found else ():
        output.say(line)


def say_sent(delivered: Delivered) -> None:
    """By which channels messages went out."""
    if delivered.sent:
        output.say(f"Sent: {', '.join(delivered.sent)}.")


def say_failed(delivered: Delivered) -> int:
    """Which messages did not go out, on standard error; returns the exit code of that, or 0."""
    for error in delivered.failed:
        output.error_sentence(error)
    return 3 if delivered.failed else 0
