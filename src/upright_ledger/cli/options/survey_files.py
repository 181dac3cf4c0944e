"""The files of a survey: what is kept of it, and the exported text that is put right."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import click

from upright_ledger.app.collect.moved_pages import Proposed, write_pairs
from upright_ledger.app.collect.surveys.audit import Audited
from upright_ledger.app.collect.surveys.known_links import LEFT, KnownLinks
from upright_ledger.app.collect.surveys.rewrite_links import MendedContent, mend_files, moved_table
from upright_ledger.app.collect.surveys.survey_export import (
    write_mends,
    write_replacements,
    write_survey,
)
from upright_ledger.app.move_state import MoveState
from upright_ledger.cli.options.output_files import FILE
from upright_ledger.cli.options.shared import bundle
from upright_ledger.cli.terminal import output
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger


@dataclass(frozen=True)
class SurveyFiles:
    """What is to be kept of a survey, and the exported text that is to be mended."""

    out: Path | None
    mends: Path | None
    replacements: Path | None
    pairs: Path | None
    exports: tuple[Path, ...]
    into: Path | None

    def __post_init__(self) -> None:
        if bool(self.exports) != bool(self.into):
            raise UsageError(
                "--in and --into go together", "such as --in export.sql --into mended/"
            )

    def write(self, result: Audited, proposed: Proposed | None) -> int:
        """Write the files; returns how much of what is to be replaced plain search would damage."""
        unsafe = 0
        if self.out is not None:
            write_survey(result, self.out)
        if self.mends is not None:
            write_mends(result, self.mends)
        if self.replacements is not None:
            unsafe = write_replacements(result, self.replacements)
        if self.pairs is not None and result.renamed is not None and proposed is not None:
            write_pairs(self.pairs, result.renamed, proposed)
        return unsafe

    def mend(self, ledger: Ledger, result: Audited | None = None) -> MendedContent:
        """Put the addresses of exported text right, by what the ledger answers, its stock, and a
        survey.
        """
        into = self.into or Path()
        moved = moved_table(result.site) if result is not None else None
        links = KnownLinks(MoveState(ledger), moved)
        done = mend_files(self.exports, links, into)
        return MendedContent(done, links.write_left(done, into / LEFT))

    def say(self, unsafe: int) -> None:
        """Say where they are. unsafe: what `write` returned."""
        for path, what in (
            (self.out, "All of it"),
            (self.mends, "Every link to mend"),
            (self.replacements, "What to search and replace"),
            (self.pairs, "Every pair"),
        ):
            if path is not None:
                output.say(f"{what} is in {path}.")
        if unsafe:
            output.say(
                f"{unsafe:,} of them cannot be replaced by plain search without damage, as their "
                "caution says: --in and --into do it for you.",
                output.DOUBTFUL,
            )


file_options = bundle(
    "files",
    SurveyFiles,
    click.option(
        "--out",
        type=FILE,
        metavar="FILE",
        help="Keep all of it as .xlsx, or one row an address as .csv or .jsonl.",
    ),
    click.option(
        "--mends", type=FILE, metavar="FILE", help="Keep the links to mend: .csv, .xlsx or .jsonl."
    ),
    click.option(
        "--replacements",
        type=FILE,
        metavar="FILE.csv",
        help="Keep what to search and replace in the content.",
    ),
    click.option(
        "--pairs",
        type=FILE,
        metavar="FILE.csv",
        help="Keep renamings without a redirect, for upright decide --from.",
    ),
    click.option(
        "--in",
        "exports",
        multiple=True,
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        metavar="FILE",
        help="Put the right addresses into a copy of exported text, with --into: those that the "
        "ledger answers, and of a survey the final ones.",
    ),
    click.option(
        "--into",
        type=click.Path(path_type=Path, file_okay=False),
        metavar="DIR",
        help="Where those copies, and a diff, go.",
    ),
)
