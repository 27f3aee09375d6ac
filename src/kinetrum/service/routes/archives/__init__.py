"""Routes that export and import."""
