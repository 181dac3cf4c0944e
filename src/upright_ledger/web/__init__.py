"""Sockets: asking servers, and being a small one. The only place that opens any."""
