"""The database: pool, transactions, clock, tables, migrations."""
