"""Options that several commands share."""
