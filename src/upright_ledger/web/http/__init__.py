"""Asking servers: requests, hops, crawls."""
