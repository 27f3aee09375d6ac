"""Finding runs and everything else: references, tables, facets, groups, views."""
