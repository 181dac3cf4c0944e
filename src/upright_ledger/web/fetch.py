"""Fetching one file, such as a sitemap, with bounds on size and time."""

from __future__ import annotations

import asyncio
import hashlib
from pathlib import Path

from upright_ledger.errors import InputError

MAX_BYTES = 200 << 20
TIMEOUT_SECONDS = 60
USER_AGENT = "upright-ledger (site move)"


def fetch(address: str, folder: Path) -> Path:
    """Fetch an address into a folder; returns the file. Raises InputError, naming the address, for all that fails."""
    target = folder / hashlib.sha256(address.encode()).hexdigest()[:20]
    if not target.exists():
        asyncio.run(_fetch(address, target))
    return target


async def _fetch(address: str, target: Path) -> None:
    import aiohttp

    timeout = aiohttp.ClientTimeout(total=TIMEOUT_SECONDS)
    try:
        async with (
            aiohttp.ClientSession(timeout=timeout, headers={"User-Agent": USER_AGENT}) as session,
            session.get(address) as response,
        ):
            if response.status != 200:
                raise InputError(f"{address} answered {response.status}", "check the address in a browser")
            draft, size = target.with_suffix(".part"), 0
            with draft.open("wb") as file:
                async for chunk in response.content.iter_chunked(1 << 16):
                    size += len(chunk)
                    if size > MAX_BYTES:
                        raise InputError(
                            f"{address} is larger than {MAX_BYTES >> 20} MB", "download it, and name the file"
                        )
                    file.write(chunk)
            draft.replace(target)
    except TimeoutError:
        raise InputError(f"{address} did not answer within {TIMEOUT_SECONDS} seconds", "try again later") from None
    except (aiohttp.ClientError, ValueError, OSError) as error:
        raise InputError(f"{address} could not be fetched: {error}", "check the address") from None
