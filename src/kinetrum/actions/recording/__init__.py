"""Taking in what runs record."""
