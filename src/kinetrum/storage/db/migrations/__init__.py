"""Numbered SQL files, frozen once released; `kinetrum.storage.db.migrate` applies them."""
