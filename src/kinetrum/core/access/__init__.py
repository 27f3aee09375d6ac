"""Who may come in: forms of tokens, scopes, passwords, the pace of guesses, the chain of the journal."""
