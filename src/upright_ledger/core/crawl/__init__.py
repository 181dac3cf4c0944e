"""What a crawl saw, where it goes next, and what that amounts to."""
