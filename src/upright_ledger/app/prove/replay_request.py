"""What a replay is asked for: which URLs, at which places, and as whom."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import product
from typing import NamedTuple

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.request_files import read_requests
from upright_ledger.app.prove.runs import found_requests
from upright_ledger.app.request_list import Requests, host_matrix, own_requests
from upright_ledger.core.url.address import Address
from upright_ledger.errors import UsageError
from upright_ledger.formats.records import ReadOptions
from upright_ledger.web.http.options import RequestOptions


class RunRequest(NamedTuple):
    """One run of a replay. place: where to ask, None for the hosts themselves. label: what is asked
    as, beside the place.
    """

    place: Address | None
    manner: RequestOptions
    name: str = ""
    label: str = ""
    resume: bool = False


@dataclass(frozen=True)
class ReplayRequest:
    """A replay of one or several runs, one for each place and profile.

    paths, reading: files of URLs; without any, matrix (every scheme, www and slash of all hosts),
    what the last run found so (verdict), or the entries of a section, and of those a sample. top:
    only so many, 0 for all. places: in whose stead the hosts are not asked. profiles: phone,
    crawler, or a language. name: of the runs. resume: go on with the last run there. Raises
    UsageError where that cannot go together.
    """

    paths: tuple[str, ...] = ()
    reading: ReadOptions | None = None
    matrix: bool = False
    section: str = ""
    verdict: str = ""
    sample: int = 0
    top: int = 0
    places: tuple[Address, ...] = ()
    profiles: tuple[str, ...] = ()
    name: str = ""
    resume: bool = False

    def __post_init__(self) -> None:
        if self.paths and (self.section or self.verdict or self.sample or self.matrix):
            raise UsageError(
                "--section, --verdict, --sample and --matrix choose what to ask",
                "leave the files out",
            )
        if len(self.places) * len(self.profiles or ("",)) > 1 and self.resume:
            raise UsageError(
                "--resume goes with one place and one profile", "ask them one after the other"
            )

    def requests(self, move: MoveState) -> Requests:
        """The URLs to ask for."""
        if self.matrix:
            asked = host_matrix(move)
        elif self.paths:
            asked = read_requests(move, list(self.paths), self.reading)
        elif self.verdict:
            asked = found_requests(move, self.verdict)
        else:
            asked = own_requests(move, section=self.section, sample=self.sample)
        return asked.most_valuable(move, self.top)

    def runs(self, manner: RequestOptions) -> Iterator[RunRequest]:
        """Each run, with a name by which it is told from the others. manner: how requests are made
        where a profile says nothing else. Raises UsageError for a profile that nobody knows.
        """
        asking = list(product(self.places or (None,), self.profiles or ("",)))
        for place, profile in asking:
            as_who = _as_profile(manner, profile) if profile else manner
            parts = (self.name, place.authority if place else "", profile)
            several = self.name and len(asking) > 1
            name = " ".join(filter(None, parts)) if several else self.name
            yield RunRequest(place, as_who, name, profile, self.resume)


_AGENTS = {
    "phone": (
        "Mozilla/5.0 (Linux; Android 14; Mobile) AppleWebKit/537.36 (KHTML, like Gecko) Mobile "
        "Safari/537.36"
    ),
    "crawler": "Mozilla/5.0 (compatible; upright-ledger; crawler bot)",
}


def _as_profile(manner: RequestOptions, profile: str) -> RequestOptions:
    """What a profile changes: the user agent, or the language."""
    if profile in _AGENTS:
        return replace(manner, agent=_AGENTS[profile])
    if not re.fullmatch(r"[A-Za-z]{2,3}(?:-[A-Za-z0-9]{2,8})*", profile):
        raise UsageError(
            f"--profile {profile} is not known",
            f"one of {', '.join(_AGENTS)}, or a language such as de",
        )
    return replace(manner, headers=(*manner.headers, f"Accept-Language: {profile}"))
