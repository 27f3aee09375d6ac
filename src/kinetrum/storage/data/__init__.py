"""Artifacts, links, manifests and stored bytes."""
