"""The ledger: settings, database and journal. The only place that knows SQL."""
