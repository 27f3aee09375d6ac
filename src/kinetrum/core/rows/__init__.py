"""Rows of tables in files: read within bounds, filtered, sorted, judged, joined over two tables by a key."""
