"""The full comparison of real servers with the reference: made-up rule sets, at least 10,000
requests a server.

python benchmarks/servers/conformance.py [SERVER…]
"""

from __future__ import annotations

import random
import sys
import tempfile
from pathlib import Path

from upright_ledger.servers import DIALECTS, load_server

sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "tests"))
sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "tests/support"))

from conformance import make_requests, make_rules
from server_comparison import compare, write_build
from upright_ledger.web.local.real_servers import find_program, run_example

SETS, REQUESTS = 80, 250


def main() -> None:
    failed = False
    for name in sys.argv[1:] or list(DIALECTS):
        if not find_program(load_server(name).launch.program):
            print(
                f"{name:9} skipped: not installed (apt-get install "
                f"{load_server(name).launch.package})"
            )
            continue
        asked, answered, differences = 0, 0, []
        for seed in range(SETS):
            rng = random.Random(seed)
            rules = make_rules(rng)
            with tempfile.TemporaryDirectory() as held:
                written, acting = write_build(name, rules, Path(held))
                requests = list(make_requests(rng, written, REQUESTS))
                with run_example(load_server(name).launch, Path(held)) as place:
                    differences += compare(name, written, requests, place, acting)
            asked += len(requests)
            answered += sum(1 for host, target in requests if written.answer(host, target))
        print(
            f"{name:9} {asked:,} requests, {answered:,} with an answer: {len(differences):,} "
            "differences",
            flush=True,
        )
        for text in differences[:5]:
            print(f"          {text}")
        failed |= bool(differences)
    raise SystemExit(failed)


if __name__ == "__main__":
    main()
