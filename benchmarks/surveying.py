"""Surveying at scale: pages a second of `upright survey` with its audits, relative to `wget
--recursive` on the same local nginx, interleaved; then memory and time of larger sites.

python benchmarks/surveying.py [PAGES…]   (the first is compared with wget; default 20000 50000
100000)

The pages are those of the faulty stand-in site: some 2 KB each, with three further links, a
navigation and a footer. Needs nginx, wget and GNU time.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).resolve().parent))

from gathering import UPRIGHT, run

from upright_ledger.demo.faulty_site import make_faulty_site
from upright_ledger.web.local.real_nginx import run_nginx
from upright_ledger.web.local.real_servers import free_port

ROUNDS = 3


def write_site(folder: Path, origin: str, pages: int) -> None:
    """The pages of the stand-in site as files."""
    for target, answer in make_faulty_site(origin, pages).answers.items():
        if answer.status == 200 and "?" not in target:
            file = folder / target.lstrip("/")
            if target.endswith("/"):
                file /= "index.html"
            elif "." not in file.name:
                continue
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(answer.body, encoding="utf-8")


def main() -> None:
    sizes = [int(text) for text in sys.argv[1:]] or [20_000, 50_000, 100_000]
    for number, pages in enumerate(sizes):
        with tempfile.TemporaryDirectory(prefix="upright-bench-") as held:
            work = Path(held)
            work.chmod(0o755)
            port = free_port()
            origin = f"http://localhost:{port}"
            write_site(work / "site", origin, pages)

            def http(_: Path, given: int, work: Path = work, port: int = port) -> str:
                return (
                    "keepalive_requests 1000000; types { text/html html; application/xml xml; "
                    "text/plain txt; } default_type text/html;\n"
                    f"server {{ listen 127.0.0.1:{port}; listen 127.0.0.1:{given}; root "
                    f"{work}/site; }}"
                )

            with run_nginx(http):
                compare(work, origin, pages, rounds=0 if number else ROUNDS)


def compare(work: Path, origin: str, pages: int, *, rounds: int) -> None:
    """Survey the site, beside wget where rounds are wanted."""
    ratios = []
    for n in range(max(1, rounds)):
        ledger = str(work / f"ledger-{n}")
        subprocess.run(
            [UPRIGHT, "open", ledger, "--old", "http://www.quillhaven.example", "--new", origin],
            check=True,
            stdout=subprocess.DEVNULL,
        )
        survey = (
            f"{UPRIGHT} --ledger {ledger} survey {origin}/ --json > {work}/found.json || [ $? = 1 ]"
        )
        seconds, peak = run(["sh", "-c", survey])
        found = json.loads((work / "found.json").read_text(encoding="utf-8"))["pages"]
        if found < pages:
            raise SystemExit(f"only {found:,} of {pages:,} pages were surveyed")
        line = (
            f"{pages:,} pages: survey {seconds:.1f} s, {pages / seconds:,.0f} pages/s, {peak:,.0f} "
            "MB"
        )
        if rounds:
            command = (
                "wget --quiet --recursive --level=inf --delete-after --directory-prefix "
                f"{work}/copy {origin}/ || true"
            )
            other, _ = run(["sh", "-c", command])
            ratios.append(other / seconds)
            line += f"; wget {other:.1f} s, {pages / other:,.0f} pages/s"
        print(line, flush=True)
    if ratios:
        print(
            f"  survey against wget: {median(ratios):.2f} times as many ({min(ratios):.2f} to "
            f"{max(ratios):.2f})"
        )


if __name__ == "__main__":
    main()
