"""The database: its schema, its journal, and the ways of SQLite and PostgreSQL."""
