"""CPU a request of nginx with 100,000 exact rules, relative to one fixed `return 301`.

Two nginx processes run side by side, one with the built rules, one with the fixed answer. Each round
sends both the same requests and reads the worker's CPU time from /proc. Prints the median of
five interleaved rounds. Linux only; needs nginx and wrk.
"""

from __future__ import annotations

import random
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from upright_ledger.core.addresses import parse_address
from upright_ledger.core.compiling import compile_rules
from upright_ledger.core.folding import FoldingPolicy
from upright_ledger.core.plans import make_plan
from upright_ledger.core.sites import Sites, group_origins
from upright_ledger.servers import load_dialect

HOST = "www.quillhaven.example"
RULES = 100_000
TARGETS = 20_000
SECONDS = 2
CONNECTIONS = 16
ROUNDS = 5
BARE = "return 301 https://www.quillhaven.example/fixed/;"


def build(folder: Path, words: random.Random) -> list[str]:
    """Write 100,000 rules as `upright build` does; return the paths they answer."""
    sites = Sites(group_origins([f"http://{HOST}"]), (f"https://{HOST}",))
    policy = FoldingPolicy()
    paths = [f"/journal/{words.randrange(1998, 2020)}/{n:06d}-{words.randrange(10**9):x}.html" for n in range(RULES)]
    plans = [
        make_plan(
            parse_address(f"http://{HOST}{p}"),
            sites.site_of(parse_address(f"http://{HOST}/")),
            policy,
            301,
            f"https://{HOST}/stories/{n}/",
        )
        for n, p in enumerate(paths)
    ]
    rules, _ = compile_rules(plans, [], sites, policy)
    for name, data in load_dialect("nginx").write(rules).files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    return paths


def start(folder: Path, name: str, http: str, server: str, port: int) -> tuple[subprocess.Popen[bytes], int]:
    """Start one nginx with one worker; returns the process and the worker's pid."""
    config = folder / f"{name}.conf"
    temp = " ".join(f"{k}_temp_path {folder}/{name}-{k};" for k in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi"))
    config.write_text(
        f"daemon off; worker_processes 1; pid {folder}/{name}.pid; error_log {folder}/{name}.log; events {{}}\n"
        f"http {{ access_log off; keepalive_requests 100000000; {temp} {http}\n"
        f"server {{ listen 127.0.0.1:{port}; server_name {HOST}; {server} }} }}\n",
    )
    process = subprocess.Popen(["nginx", "-p", str(folder), "-e", str(folder / f"{name}.log"), "-c", str(config)])
    for _ in range(500):
        time.sleep(0.02)
        children = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
        if children:
            return process, int(children[0])
    sys.exit((folder / f"{name}.log").read_text())


def cpu_seconds(pid: int) -> float:
    """CPU seconds a process has had, to the nanosecond."""
    return int(Path(f"/proc/{pid}/schedstat").read_text().split()[0]) / 1e9


def cost(port: int, worker: int, script: Path) -> float:
    """CPU seconds a request under load."""
    before = cpu_seconds(worker)
    command = ["wrk", "-t1", f"-c{CONNECTIONS}", f"-d{SECONDS}", "-s", str(script), f"http://127.0.0.1:{port}/"]
    report = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    requests = next(int(line.split()[0]) for line in report.splitlines() if "requests in" in line)
    return (cpu_seconds(worker) - before) / requests


def write_script(folder: Path, targets: list[str]) -> Path:
    """A load script that walks through the targets."""
    (folder / "targets.txt").write_text("\n".join(targets))
    script = folder / "load.lua"
    script.write_text(
        f'local t = {{}} for line in io.lines("{folder}/targets.txt") do t[#t + 1] = line end local i = 0\n'
        f'request = function() i = i % #t + 1 return wrk.format("GET", t[i], {{["Host"] = "{HOST}"}}) end\n',
    )
    return script


def main() -> None:
    words = random.Random(7)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        folder.chmod(0o755)
        paths = build(folder, words)
        ruled, ruled_worker = start(
            folder, "ruled", f"include {folder}/redirects.conf;", f"include {folder}/server.inc; return 404;", 9461
        )
        bare, bare_worker = start(folder, "bare", "", BARE, 9462)
        some = words.sample(paths, TARGETS)
        kinds = {
            "hit": some,
            "hit with campaign parameters": [f"{p}?utm_source=news&utm_campaign=spring" for p in some],
            "miss": [f"{p}x" for p in some],
        }
        print(f"{'request':32}{'median':>8}{'least':>8}{'most':>8}   CPU a request, relative to one fixed return 301")
        for kind, targets in kinds.items():
            script = write_script(folder, targets)
            ratios = [cost(9461, ruled_worker, script) / cost(9462, bare_worker, script) for _ in range(ROUNDS)]
            print(f"{kind:32}{statistics.median(ratios):8.2f}{min(ratios):8.2f}{max(ratios):8.2f}")
        for process in (ruled, bare):
            process.terminate()
            process.wait()


if __name__ == "__main__":
    main()
