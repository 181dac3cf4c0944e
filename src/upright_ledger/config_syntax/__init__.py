"""Lexers of configuration files, which readers and writers of them share."""
