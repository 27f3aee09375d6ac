"""What was applied to the database, and who is at it."""

from __future__ import annotations

from peewee import CharField, CompositeKey, DateTimeField, IntegerField

from kinetrum.storage.tables.base import Table


class MigrationStep(Table):
    migration = IntegerField()
    statement = IntegerField()
    applied_at = DateTimeField()

    class Meta:
        table_name = "migration_step"
        primary_key = CompositeKey("migration", "statement")


class Lease(Table):
    name = CharField(primary_key=True)
    holder = CharField()
    expires_at = DateTimeField()
