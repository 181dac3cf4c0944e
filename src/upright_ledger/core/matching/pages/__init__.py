"""Pages of both sites as a matcher reads them: their words, how these are spelt, and numbers."""
