"""Files of any kind read as sources: how they are read, and what becomes of each line."""
