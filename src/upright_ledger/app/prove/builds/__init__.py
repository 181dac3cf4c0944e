"""Rules as files in a folder, and what a server runs."""
