"""What surrounds a run and is caught by itself: environment, code, output, cells, figures, use of the machine."""
