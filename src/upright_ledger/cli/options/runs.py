"""What is to be kept and shown of a run: options of rehearse, replay and runs."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import click

from upright_ledger.app.prove.results import Results
from upright_ledger.cli.options.output_files import FILE, ON_SCREEN, force_option
from upright_ledger.cli.options.shared import bundle
from upright_ledger.cli.terminal import output


@dataclass(frozen=True)
class RunView:
    """out: a file of one row a URL; hops: one of a row a hop, or ON_SCREEN; all_rows: every URL
    that is not ok is listed.
    """

    out: Path | None
    hops: Path | None
    all_rows: bool

    @property
    def with_hops(self) -> bool:
        """Whether the ways are shown hop by hop."""
        return self.hops == ON_SCREEN

    def write(self, results: Results, *, quiet: bool) -> None:
        """Keep the rows where somebody asked for them."""
        if self.out is not None:
            results.write(self.out)
        if self.hops is not None and not self.with_hops:
            results.write_hops(self.hops)
        for path, what in ((self.out, "Every URL"), (self.hops, "Every hop")):
            if path not in {None, ON_SCREEN} and not quiet:
                output.say(f"{what} is in {path}.")


view_options = bundle(
    "view",
    RunView,
    click.option(
        "--out",
        type=FILE,
        metavar="FILE",
        help="Keep one row a URL: .csv, .xlsx (with the hops), .jsonl, or .xml for a build server.",
    ),
    click.option(
        "--hops",
        type=FILE,
        metavar="FILE.csv",
        help="Keep one row a hop; - shows them here.",
    ),
    force_option,
    click.option("--all", "all_rows", is_flag=True, help="List every URL that is not ok."),
)
"""--out, --hops, --force and --all."""
