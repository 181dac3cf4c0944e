"""Open formats, one module each: what comes in becomes records, what goes out is escaped."""
