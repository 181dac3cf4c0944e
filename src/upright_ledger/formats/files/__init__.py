"""Files as such: packed, in their encoding, written whole."""
