"""Queries on the index of runs, facets, groups, saved views, names."""
