"""Template rules: their grammar, which of them is responsible, the paths they can be."""
