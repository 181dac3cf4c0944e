"""What a ledger's owner decided once: the model of `upright.toml`, and the file."""
