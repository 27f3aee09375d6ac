"""Records of runs: rows, documents, index, points, output."""
