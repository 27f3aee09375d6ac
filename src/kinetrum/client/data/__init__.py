"""Artifacts as the service has them: versions, files, lineage, rows, use of its disk."""
