"""The web nodes of the story: real servers with the built rules, over HTTPS, before the new
site.
"""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from pathlib import Path

from upright_ledger.servers import DIALECTS, load_server
from upright_ledger.web.local.real_servers import find_program, run_example

NODES = {name: launch for name in DIALECTS if (launch := load_server(name).launch).node}
"""Servers of which a node before the new site can be made, and how they are started."""
CERTIFICATE = "staging-certificate.pem"


def missing() -> str:
    """What the nodes need and is not on this machine, in words; empty where all is there."""
    lacking = [n.package for n in NODES.values() if not find_program(n.program)]
    if not shutil.which("openssl"):
        lacking.append("openssl")
    return ", ".join(lacking)


def make_certificate(folder: Path, hosts: list[str]) -> None:
    """A certificate for these hosts that is its own authority, for a few days."""
    names = ",".join(f"DNS:{host}" for host in hosts)
    with tempfile.TemporaryDirectory() as held:
        key = Path(held) / "key.pem"
        command = (
            "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1",
            "-nodes", "-days", "8",
            "-subj", f"/CN={hosts[0]}", "-addext", f"subjectAltName={names}", "-keyout", str(key),
            "-out", str(folder / CERTIFICATE),
        )  # fmt: skip
        subprocess.run(command, check=True, capture_output=True)  # noqa: S603
        (folder / "key.pem").write_bytes(key.read_bytes())


@contextmanager
def web_nodes(builds: Mapping[str, Path], certificate: Path, site: str) -> Iterator[dict[str, str]]:
    """Run a node for each build (server → its folder) before the site at an address; yields server
    → its address.
    """
    pem = (certificate / CERTIFICATE).read_bytes() + (certificate / "key.pem").read_bytes()
    with ExitStack() as stack:
        held = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="upright-nodes-")))
        found = {}
        for name, build in builds.items():
            shutil.copytree(build, held / name)
            example = held / name / NODES[name].example
            text = example.read_text(encoding="utf-8")
            for stands, wanted in NODES[name].node:
                text = text.replace(
                    stands, wanted.format(site=site, authority=site.partition("://")[2])
                )
            example.write_text(text, encoding="utf-8")
            (example.parent / "tls.pem").write_bytes(pem)
            host, port = stack.enter_context(run_example(NODES[name], held / name))
            found[name] = f"https://{host}:{port}"
        yield found
