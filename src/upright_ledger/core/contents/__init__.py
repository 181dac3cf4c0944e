"""What pages say: their texts as sketches of a fixed size, and how alike two of them are."""
