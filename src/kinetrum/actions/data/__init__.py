"""Artifacts: versions, bytes, previews, rows, lineage, use of the disk."""
