"""People, projects, names, notes, the journal, visits."""
