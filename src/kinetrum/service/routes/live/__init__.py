"""The stream of changes, and health."""
