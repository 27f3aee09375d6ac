"""Events, in the order in which they were committed."""
