"""Changes as they are told to whoever watches."""

from __future__ import annotations

from peewee import BigIntegerField, CharField, DateTimeField, IntegerField

from kinetrum.storage.tables.base import Table


class EventRow(Table):
    event_id = BigIntegerField(primary_key=True)
    project_id = IntegerField(null=True)
    kind = CharField()
    subject = CharField()
    experiment = CharField(null=True)
    word = CharField(null=True)
    at = DateTimeField()
    stamp = BigIntegerField(null=True)

    class Meta:
        table_name = "event"


class EventOrder(Table):
    name = CharField(primary_key=True)
    last_stamp = BigIntegerField()

    class Meta:
        table_name = "event_order"
