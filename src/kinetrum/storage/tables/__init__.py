"""The tables as peewee sees them; their definition stands in `db/migrations/`."""
