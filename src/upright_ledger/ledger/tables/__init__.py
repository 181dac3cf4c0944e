"""What is kept of what, a table or two a module."""
