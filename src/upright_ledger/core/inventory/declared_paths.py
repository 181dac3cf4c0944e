"""What a rule for an entry answers: every path that folds into it and was seen."""

from __future__ import annotations

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.address import Address
from upright_ledger.core.url.escapes import as_latin1, as_utf8
from upright_ledger.core.url.request_target import lower_path, names_file, reject_reason


def unanswerable(address: Address) -> str:
    """Why no server rule could ever answer this address, or an empty string."""
    return reject_reason(address.target)


def declared_paths(path: str, variants: frozenset[str], policy: FoldingPolicy) -> tuple[str, ...]:
    """Every canonical path a rule for this entry answers, case folded under the policy.

    Both slash forms (a name with a file ending takes only its own), and the index files and other
    spellings that were observed.
    """
    found = {path}
    if path != "/" and not names_file(path):
        found.add(path + "/")
    for variant in variants:
        found.add(lower_path(variant) if policy.folds_case else variant)
    for spelled in [p for p in found if "%" in p]:
        # Old sites wrote their letters in Latin-1, and browsers write them in UTF-8.
        for twin in (as_latin1(spelled), as_utf8(spelled)):
            if twin:
                found.add(twin)
    return tuple(sorted(found))
