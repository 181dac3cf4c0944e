"""A request hop by hop, and what that amounts to."""
