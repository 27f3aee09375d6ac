"""Accounts, roles, projects, notes, names, and what one comes to see first."""
