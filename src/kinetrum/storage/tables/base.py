"""What all tables share."""

from __future__ import annotations

from peewee import Field, Model

from kinetrum.storage.db.database import database


class Binary(Field):
    """Bytes as they are."""

    field_type = "VARBINARY"

    def db_value(self, value: bytes | None) -> bytes | None:
        return value

    def python_value(self, value: bytes | None) -> bytes | None:
        return value


class Table(Model):
    class Meta:
        database = database
        legacy_table_names = False
