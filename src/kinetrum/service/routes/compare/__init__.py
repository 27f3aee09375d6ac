"""Routes that compare runs."""
