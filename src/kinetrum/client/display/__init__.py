"""How records show themselves: in notebooks, on a terminal, as pictures."""
