"""How thoroughly the properties are tried that hold for any input.

UPRIGHT_EXAMPLES is the number of examples of each; UPRIGHT_SHRINK, set to anything, looks for the
smallest example that fails, which takes minutes: it is for those who look into a failure. What
fails is printed as a call, and as a decorator that tries that example alone.
"""

from __future__ import annotations

import os

from hypothesis import HealthCheck, Phase, settings

thorough = settings(
    max_examples=int(os.environ.get("UPRIGHT_EXAMPLES", "30")),
    print_blob=True,
    suppress_health_check=list(HealthCheck),
    phases=[p for p in Phase if p is not Phase.shrink or "UPRIGHT_SHRINK" in os.environ],
)

in_brief = settings(thorough, max_examples=thorough.max_examples // 3)
"""For a property of which each example is a long story."""
