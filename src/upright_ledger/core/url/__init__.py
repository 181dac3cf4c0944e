"""What a URL is: read, canonical, safe, mended, compared."""
