"""How many of the agents that a published list of programs names are known for such, and by what
they are for. `make agents` renews the list that is used, and the one that is measured against.

Usage: python benchmarks/agents.py   (needs the package crawler-user-agents)
"""

from __future__ import annotations

from collections import Counter

from crawleruseragents import CRAWLER_USER_AGENTS_DATA

from upright_ledger.core.inventory.agents import asker_of
from upright_ledger.core.inventory.evidence import Asker


def main() -> None:
    agents = [agent for entry in CRAWLER_USER_AGENTS_DATA for agent in entry["instances"]]
    found = Counter(map(asker_of, agents))
    known = len(agents) - found[Asker.PEOPLE]
    print(f"{known:,} of {len(agents):,} agents of programs are known: {known / len(agents):.1%}")
    for who, count in found.most_common():
        print(f"  {count:6,}  {'taken for people' if who == Asker.PEOPLE else who}")


if __name__ == "__main__":
    main()
