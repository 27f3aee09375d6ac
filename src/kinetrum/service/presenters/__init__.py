"""From what actions return to what the interface sends, where the two differ."""
