"""Routes for artifacts, files, media, rows, lineage and use of disk."""
