"""Routes: each parses, calls one action, and shapes its answer."""
