"""What makes spellings one entry, what is known of it, and its answer."""
