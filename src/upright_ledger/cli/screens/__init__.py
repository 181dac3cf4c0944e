"""What several commands show."""
