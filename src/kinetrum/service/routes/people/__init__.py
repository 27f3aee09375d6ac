"""Routes for accounts, projects, members and Today."""
