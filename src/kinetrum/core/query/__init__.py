"""Questions about runs: the query language, from text to tests whose names and values are settled."""
