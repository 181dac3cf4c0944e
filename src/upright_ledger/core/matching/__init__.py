"""Matching: for each old page the new page that took its place, with a confidence and reasons.

`pages` reads addresses and titles as weighted words, `candidates` finds the few pairs worth a look,
`pair_features` says what they have in common, `learned_features` what the plain cases teach of how
places moved, and `choice_model` turns all of it into chances.
"""

from upright_ledger.core.matching.pages.page_words import MatchPage
from upright_ledger.core.matching.proposals import Proposal, Proposals, propose

__all__ = ["MatchPage", "Proposal", "Proposals", "propose"]
