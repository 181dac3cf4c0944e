"""Replaying 20,000 old URLs against a local nginx with their rules, relative to curl on the same
URLs, interleaved.

python benchmarks/replaying.py

Every URL takes two requests of `upright replay` (the redirect and the page), which judges and
records them; curl takes the redirect alone: so requests a second are compared. Needs nginx, curl
and xargs.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).resolve().parent))

from rules import NEW, OLD, PROGRAM, measured, write_pairs

from upright_ledger.web.local.real_nginx import run_nginx

URLS, FEW, ROUNDS = 20_000, 1_000, 5
HOST, GOAL = OLD.partition("://")[2], NEW.partition("://")[2]


def seconds(command: list[object], **options: object) -> float:
    """How long a command takes."""
    began = time.monotonic()
    subprocess.run(
        [str(c) for c in command],
        check=False,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        **options,
    )  # type: ignore[call-overload]
    return time.monotonic() - began


def main() -> None:
    with tempfile.TemporaryDirectory() as held:
        folder, ledger = Path(held), str(Path(held) / "ledger")
        write_pairs(folder / "pairs.csv", URLS, URLS // 100)
        measured("open", ledger, "--old", OLD, "--new", NEW)
        measured("--ledger", ledger, "decide", "--from", f"{held}/pairs.csv")
        measured("--ledger", ledger, "build", "--for", "nginx", "--out", f"{held}/rules")
        rows = (folder / "pairs.csv").read_text().splitlines()[1 : URLS + 1]
        urls = [row.partition(",")[0] for row in rows]
        asked = URLS + sum(1 for row in rows if ",410," not in row)
        (folder / "urls.txt").write_text("\n".join(urls) + "\n")

        def http(place: Path, port: int) -> str:
            return (
                f"keepalive_requests 100000; include {place}/redirects.conf;\n"
                f"server {{ listen 127.0.0.1:{port}; server_name {HOST}; include "
                f"{place}/server.inc; return 404; }}\n"
                f"server {{ listen 127.0.0.1:{port}; server_name {GOAL}; default_type text/html; "
                f'return 200 "<title>Page</title>"; }}\n'
            )

        with run_nginx(
            http, (folder / "rules/redirects.conf", folder / "rules/server.inc")
        ) as address:
            here = [address + url.removeprefix(OLD) for url in urls]
            (folder / "curl.cfg").write_text(
                "".join(f"url = {u}\noutput = /dev/null\n" for u in here)
            )
            (folder / "few.txt").write_text("\n".join(here[:FEW]) + "\n")
            rates: dict[str, list[float]] = {"replay": [], "parallel": [], "xargs": []}
            for _ in range(ROUNDS):
                run = [PROGRAM, "--ledger", ledger, "replay", folder / "urls.txt", "--at", address]
                rates["replay"].append(asked / seconds(run))
                many = [
                    "curl",
                    "-s",
                    "-H",
                    f"Host: {HOST}",
                    "--parallel",
                    "--parallel-max",
                    "64",
                    "-K",
                    folder / "curl.cfg",
                ]
                rates["parallel"].append(URLS / seconds(many))
                one = [
                    "xargs",
                    "-P16",
                    "-n1",
                    "curl",
                    "-s",
                    "-o",
                    os.devnull,
                    "-H",
                    f"Host: {HOST}",
                ]
                with (folder / "few.txt").open() as few:
                    rates["xargs"].append(FEW / seconds(one, stdin=few))
        ratios = {
            name: [a / b for a, b in zip(rates["replay"], rates[name], strict=True)]
            for name in ("parallel", "xargs")
        }
        print(
            "requests a second, median: "
            + ", ".join(f"{name} {median(found):,.0f}" for name, found in rates.items())
        )
        for name, found in ratios.items():
            print(
                f"replay against {name}: {median(found):.2f} ({min(found):.2f} to {max(found):.2f})"
            )


if __name__ == "__main__":
    main()
