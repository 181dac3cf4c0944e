"""Make the pictures in docs/screenshots: real terminal windows with the commands run on the demo's
ledger.

Needs Xvfb, xterm and ImageMagick's import (on Debian: apt-get install xvfb xterm imagemagick).
Usage: python docs/make_screenshots.py docs/screenshots
"""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from upright_ledger.demo.sample import make_sample
from upright_ledger.demo.servers import site_as_found

DISPLAY = ":87"
SIZE = "1280x800"
UPRIGHT = str(Path(sys.executable).with_name("upright"))
TOOLS = ("Xvfb", "xterm", "import")


def shots(files: Path, address: str) -> list[tuple[str, str, str]]:
    """Picture name, command as shown, and the part of its output that is shown (a shell filter;
    none for a command that waits).
    """
    return [
        ("help", "upright --help", "cat"),
        ("where-you-are", "upright", "cat"),
        ("gather", f"upright gather {files}/search-errors.csv {files}/more-urls.txt", "cat"),
        ("fold", f"upright --ledger {files}/shop-ledger fold", "cat"),
        ("entries", "upright entries --limit 14", "cat"),
        ("entry", "upright entries /visit/opening-hours.html", "cat"),
        ("balance", "upright balance", "cat"),
        ("match", f"upright --ledger {files}/draft-ledger match", "head -44"),
        ("review", f"upright --ledger {files}/queue-ledger review", ""),
        ("survey", "upright survey --again staging", "head -43"),
        ("triage", f"upright --ledger {files.parent}/live triage", "head -43"),
        (
            "check",
            f"upright check {files}/earlier-rules.csv --stock {files}/new-pages.csv",
            "head -40",
        ),
        ("build", "upright build --for haproxy --out rules --condense", "cat"),
        ("rehearse", f"upright rehearse {files}/old-urls.txt", "head -40"),
        ("replay", f"upright replay {files}/earlier-urls.txt --at {address}", "head -44"),
        ("reconcile", "upright reconcile as-found built", "cat"),
        ("launch", f"upright launch --top 50 --at {address}", "cat"),
    ]


def photograph(folder: Path, ledger: Path, name: str, command: str, part: str) -> None:
    """Run one command in a terminal window and take its picture."""
    done = ledger / ".photographed"
    done.unlink(missing_ok=True)
    shown = command.replace(str(ledger.parent), "..")
    run = command.replace("upright", UPRIGHT, 1)
    whole = (
        f"{run} 2>&1 | {part} ; touch {done}; sleep 60"
        if part
        else f"(sleep 6; touch {done}) & {run}"
    )
    script = f"cd {ledger}; printf '$ %s\\n\\n' '{shown}'; {whole}"
    window = [
        "xterm",
        "-geometry",
        "159x50+0+0",
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        "10",
        "-bg",
        "#fbfaf7",
        "-fg",
        "#222222",
        "+sb",
        "-e",
        "sh",
        "-c",
        script,
    ]
    environment = {
        **os.environ,
        "DISPLAY": DISPLAY,
        "COLUMNS": "120",
        "FORCE_COLOR": "1",
        "UPRIGHT_AUTHOR": "ada",
        "LC_ALL": "C.UTF-8",
    }
    terminal = subprocess.Popen(window, env=environment)
    for _ in range(600):
        time.sleep(0.1)
        if done.exists():
            break
    time.sleep(0.8)
    subprocess.run(
        ["import", "-window", "root", str(folder / f"{name}.png")], env=environment, check=True
    )
    terminal.terminate()
    terminal.wait()


def photograph_page(folder: Path, ledger: Path) -> None:
    """What a browser shows of `upright serve`, where there is a Chromium; else the picture stays as
    it is.
    """
    browser = shutil.which("chromium")
    if browser is None:
        print("serve.png is not made: there is no chromium (apt-get install chromium)")
        return
    run = subprocess.Popen(
        [UPRIGHT, "serve", "--port", "8380"], cwd=ledger, stdout=subprocess.DEVNULL
    )
    try:
        for _ in range(600):
            with socket.socket() as asked:
                if asked.connect_ex(("127.0.0.1", 8380)) == 0:
                    break
            time.sleep(0.1)
        picture = f"--screenshot={folder / 'serve.png'}"
        flags = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--hide-scrollbars",
            "--window-size=1280,800",
        ]
        subprocess.run(
            [browser, *flags, picture, "http://127.0.0.1:8380/.upright/"],
            check=True,
            capture_output=True,
        )
    finally:
        run.terminate()
        run.wait()


def main() -> None:
    missing = [tool for tool in TOOLS if shutil.which(tool) is None]
    if missing or len(sys.argv) != 2:
        sys.exit(f"missing: {', '.join(missing)}" if missing else __doc__)
    folder = Path(sys.argv[1]).resolve()
    folder.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(
        ["Xvfb", DISPLAY, "-screen", "0", f"{SIZE}x24", "-nolisten", "tcp"],
        stderr=subprocess.DEVNULL,
    )
    try:
        with tempfile.TemporaryDirectory(prefix="upright-shots-") as name:
            demo = Path(name) / "demo"
            subprocess.run(
                [UPRIGHT, "demo", str(demo), "--json"], check=True, stdout=subprocess.DEVNULL
            )
            more = [
                "/visit/opening-hours.html",
                "/Visit/Cafe.html?utm_source=mail",
                "/exhibitions/night-of-the-bells.html",
                "call me about the rest",
                "/wp-login.php",
                "//files//plan.pdf",
            ]
            (demo / "files/more-urls.txt").write_text("\n".join(more) + "\n")
            shop, draft, queue = (
                demo / f"files/{name}-ledger" for name in ("shop", "draft", "queue")
            )
            lists = [str(demo / "files/crawl-list.txt"), str(demo / "files/analytics.csv")]
            hosts = [
                "--old",
                "http://www.quillhaven.example",
                "--new",
                "https://www.quillhaven.example",
            ]
            for command in (
                ["open", str(shop), *hosts],
                ["--ledger", str(shop), "gather", *lists],
                *(
                    command
                    for ledger in (draft, queue)
                    for command in (
                        ["open", str(ledger), *hosts],
                        ["--ledger", str(ledger), "gather", *lists],
                        ["--ledger", str(ledger), "fold", "--accept"],
                        ["--ledger", str(ledger), "stock", str(demo / "files/new-pages.csv")],
                    )
                ),
                ["--ledger", str(queue), "match", "--accept-above", "1.01"],
            ):
                subprocess.run([UPRIGHT, *command], check=True, stdout=subprocess.DEVNULL)
            photograph_page(folder, demo / "museum")
            shutil.copy(demo / "figures/not-found.png", folder)
            with site_as_found(make_sample()) as (address, _):
                for shot in shots(demo / "files", address):
                    photograph(folder, demo / "museum", *shot)
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()
