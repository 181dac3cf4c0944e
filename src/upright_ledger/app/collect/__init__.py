"""What old and new sites hold: gathered, folded, stocked, surveyed."""
