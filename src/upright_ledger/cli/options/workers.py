"""The option that names workers of a cluster."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from upright_ledger.settings.model import Settings

if TYPE_CHECKING:
    from upright_ledger.web.cluster import Cluster

on_option = click.option(
    "--on",
    "scheduler",
    default=None,
    metavar="WORKERS",
    help=(
        "Who reads files and asks rules: tcp://HOST:8786 or tls://HOST:8786, a Dask scheduler; "
        "local, a process for each core of this machine; here, this command.  [default: as "
        "[cluster] in upright.toml, else here]"
    ),
)
_HERE = "here"


@contextmanager
def workers(settings: Settings, scheduler: str | None) -> Iterator[Cluster | None]:
    """The workers that an option names, or the settings do where it is not given; None where this
    process reads.
    """
    told = settings.cluster
    address = told.on if scheduler is None else scheduler
    if address in {"", _HERE}:
        yield None
        return
    from upright_ledger.web.cluster import Certificates, workers_of

    certificates = Certificates(told.authority, told.certificate, told.key)
    with workers_of(address, certificates) as found:
        yield found
