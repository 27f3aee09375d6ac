"""Numbered SQL files, frozen once released; `kinetrum.storage.migrate` applies them."""
