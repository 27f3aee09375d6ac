"""Commands for artifacts, lineage, media, rows and use of disk."""
