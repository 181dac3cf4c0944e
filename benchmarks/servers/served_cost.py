"""CPU a request of five web servers with 100,000 exact rules and 50 templates, relative to one
fixed 301 of the same server.

Two processes of a server run side by side, one with the example of a build, one with the fixed
answer. Each round sends both the same requests and reads the CPU time of all their threads from
/proc. Prints the median of five interleaved rounds. Linux only; needs the servers and wrk.

python benchmarks/servers/served_cost.py [SERVER…]
"""

from __future__ import annotations

import random
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.servers import DIALECTS, load_dialect, load_server
from upright_ledger.web.local.real_servers import find_program, run_example

HOST = "www.quillhaven.example"
RULES = 100_000
TEMPLATES = 50
TARGETS = 20_000
SECONDS = 2
CONNECTIONS = 16
ROUNDS = 5
GOAL = f"https://{HOST}/fixed/"
BARE = {
    "nginx": f"server {{ listen 127.0.0.1:8080; return 301 {GOAL}; }}",
    "lighttpd": f'server.document-root = var.CWD\nserver.port = 8080\nserver.bind = "127.0.0.1"\n'
    f'server.modules = ( "mod_redirect" )\n'
    f'server.max-keep-alive-requests = 10000000\nurl.redirect = ( "" => "{GOAL}" )\n',
    "apache": f"RedirectMatch 301 ^ {GOAL}",
    "haproxy": f"  http-request redirect code 301 location {GOAL}",
    "caddy": "",
}


def rules(words: random.Random) -> tuple[RuleSet, list[str]]:
    """100,000 rules and 50 templates, and the paths the exact ones answer."""
    sites = Sites(group_origins([f"http://{HOST}"]), ("https://new.example",))
    policy = FoldingPolicy()
    paths = [
        f"/journal/{words.randrange(1998, 2020)}/{n:06d}-{words.randrange(10**9):x}.html"
        for n in range(RULES)
    ]
    plans = [
        make_plan(
            parse_address(f"http://{HOST}{p}"),
            "quillhaven.example",
            policy,
            301,
            f"https://new.example/stories/{n}/",
        )
        for n, p in enumerate(paths)
    ]
    templates = [
        make_template(
            "quillhaven.example",
            f"/section{n}/{{slug}}.html",
            301,
            f"https://new.example/s{n}/{{slug}}/",
            str(n),
            fold=True,
        )
        for n in range(TEMPLATES)
    ]
    return compile_rules(plans, [], sites, policy, templates)[0], paths


def bare(name: str, built: Path, folder: Path) -> None:
    """The built example of a server with one fixed answer in place of the rules."""
    example = Path(load_server(name).launch.example)
    (folder / "example/htdocs").mkdir(parents=True)
    (folder / "make-maps.sh").write_text("true\n")
    text = (built / example).read_text()
    if name == "nginx":
        text = text[: text.index("    include ../redirects.conf")] + BARE[name] + "\n}\n"
    elif name == "lighttpd":
        text = BARE[name]
    elif name == "apache":
        text = (
            text[: text.index("<VirtualHost")].replace("rewrite", "alias")
            + BARE[name]
            + "\nMaxKeepAliveRequests 0\n"
        )
    elif name == "haproxy":
        text = text[: text.index("  http-request")] + BARE[name] + "\n"
    else:
        text = (
            '{"admin":{"disabled":true},"logging":{"logs":{"default":{"writer":'
            '{"output":"discard"}}}},'
            '"apps":{"http":{"servers":{"s":{"listen":["127.0.0.1:8080"],'
            '"automatic_https":{"disable":true},'
            '"routes":[{"handle":[{"handler":"static_response",'
            '"status_code":301,"headers":{"Location":["' + GOAL + '"]}}]}]}}}}}'
        )
    (folder / example).write_text(text)


def widen(name: str, folder: Path) -> None:
    """Keep connections open for all requests, as the fixed answer does."""
    path = folder / load_server(name).launch.example
    text = path.read_text()
    if name == "nginx":
        text = text.replace("access_log off;", "access_log off; keepalive_requests 100000000;")
    elif name == "lighttpd" and "max-keep-alive" not in text:
        text += "server.max-keep-alive-requests = 10000000\n"
    elif name == "apache" and "MaxKeepAlive" not in text:
        text += "MaxKeepAliveRequests 0\n"
    path.write_text(text)


def processes(port: int) -> list[int]:
    """The process that listens on a port, and its children."""
    listed = subprocess.run(
        ["ss", "-ltnpH", f"sport = :{port}"], capture_output=True, text=True, check=True
    ).stdout
    return sorted({int(part.partition(",")[0]) for part in listed.split("pid=")[1:]})


def cpu_seconds(pids: list[int]) -> float:
    """CPU seconds of all threads of processes, to the nanosecond."""
    found = (p for pid in pids for p in Path(f"/proc/{pid}/task").glob("*/schedstat"))
    return sum(int(p.read_text().split()[0]) for p in found) / 1e9


def cost(port: int, script: Path) -> float:
    """CPU seconds a request under load."""
    pids = processes(port)
    before = cpu_seconds(pids)
    command = [
        "wrk",
        "-t1",
        f"-c{CONNECTIONS}",
        f"-d{SECONDS}",
        "-s",
        str(script),
        f"http://127.0.0.1:{port}/",
    ]
    report = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    requests = next(int(line.split()[0]) for line in report.splitlines() if "requests in" in line)
    return (cpu_seconds(pids) - before) / requests


def write_script(folder: Path, targets: list[str]) -> Path:
    """A load script that walks through the targets."""
    (folder / "targets.txt").write_text("\n".join(targets))
    script = folder / "load.lua"
    script.write_text(
        f"local t = {{}} "
        f'for line in io.lines("{folder}/targets.txt") do t[#t + 1] = line end local i = 0\n'
        f"request = function() i = i % #t + 1 "
        f'return wrk.format("GET", t[i], {{["Host"] = "{HOST}"}}) end\n',
    )
    return script


def measure(name: str, made: RuleSet, paths: list[str], words: random.Random) -> None:
    with ExitStack() as stack:
        folder, plain, load = (
            Path(stack.enter_context(tempfile.TemporaryDirectory())) for _ in range(3)
        )
        start = time.perf_counter()
        for file, data in load_dialect(name).write(made).files.items():
            (folder / file).parent.mkdir(parents=True, exist_ok=True)
            (folder / file).write_bytes(data)
        written = time.perf_counter() - start
        bare(name, folder, plain)
        widen(name, folder)
        widen(name, plain)
        start = time.perf_counter()
        ours = stack.enter_context(run_example(load_server(name).launch, folder))[1]
        started = time.perf_counter() - start
        memory = (
            sum(int(Path(f"/proc/{p}/statm").read_text().split()[1]) for p in processes(ours))
            * resource.getpagesize()
            / 1e6
        )
        theirs = stack.enter_context(run_example(load_server(name).launch, plain))[1]
        some = words.sample(paths, TARGETS)
        kinds = {
            "hit": some,
            "hit, campaign parameters": [f"{p}?utm_source=news&utm_campaign=spring" for p in some],
            "template": [f"/section{n % TEMPLATES}/{p[-12:]}" for n, p in enumerate(some)],
            "miss": [f"{p}x" for p in some],
        }
        print(f"{name}: written in {written:.1f} s, started in {started:.1f} s, {memory:.0f} MB")
        for kind, targets in kinds.items():
            script = write_script(load, targets)
            ratios = [cost(ours, script) / cost(theirs, script) for _ in range(ROUNDS)]
            print(
                f"  {kind:28}{statistics.median(ratios):8.2f}{min(ratios):8.2f}{max(ratios):8.2f}",
                flush=True,
            )


def main() -> None:
    words = random.Random(7)
    made, paths = rules(words)
    print(
        f"{'request':30}{'median':>8}{'least':>8}{'most':>8}   "
        "CPU a request, relative to one fixed 301"
    )
    for name in sys.argv[1:] or list(DIALECTS):
        if find_program(load_server(name).launch.program):
            measure(name, made, paths, words)
        else:
            print(f"{name}: not installed (apt-get install {load_server(name).launch.package})")


if __name__ == "__main__":
    main()
