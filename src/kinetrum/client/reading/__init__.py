"""Reading back what was recorded: runs, tables of them, comparisons, notes."""
