"""Lists of addresses, sitemaps and archives."""
