"""What is worked out of entries, kept beside them: lines, answers that rules give, results."""
