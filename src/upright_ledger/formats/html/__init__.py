"""What saved and fetched pages say."""
