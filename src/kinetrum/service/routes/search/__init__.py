"""Routes that find runs, and views."""
