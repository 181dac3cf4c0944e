"""Files of any kind read as sources: what is named, how it is read, and what becomes of each line."""
