"""Images, sound, video, texts and tables as results: their forms, and what is said of them."""

from kinetrum.core.media.forms import KINDS, kind_of, type_of
from kinetrum.core.media.items import ITEMS_FILE, Box, Item, Mask, items_of, read_items, write_items

__all__ = ["ITEMS_FILE", "KINDS", "Box", "Item", "Mask", "items_of", "kind_of", "read_items", "type_of", "write_items"]
