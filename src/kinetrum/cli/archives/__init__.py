"""Commands that export and import."""
