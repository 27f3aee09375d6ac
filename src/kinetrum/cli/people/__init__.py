"""Commands for accounts, roles, tokens and the journal."""
