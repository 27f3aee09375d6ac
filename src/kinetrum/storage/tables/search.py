"""What runs are found by, and saved views."""

from __future__ import annotations

from peewee import (
    BigIntegerField,
    BooleanField,
    CharField,
    CompositeKey,
    DateTimeField,
    DoubleField,
    IntegerField,
    TextField,
)

from kinetrum.storage.tables.base import Binary, Table


class KeyName(Table):
    key_id = IntegerField(primary_key=True)
    project_id = IntegerField()
    scope = CharField()
    aggregate = CharField()
    name = CharField()

    class Meta:
        table_name = "key_name"


class ExperimentKey(Table):
    experiment_id = IntegerField()
    key_id = IntegerField()

    class Meta:
        table_name = "experiment_key"
        primary_key = CompositeKey("experiment_id", "key_id")


class NumberValue(Table):
    key_id = IntegerField()
    experiment_id = IntegerField()
    run_id = BigIntegerField()
    num = DoubleField()

    class Meta:
        table_name = "value_num"
        primary_key = CompositeKey("key_id", "experiment_id", "run_id")


class TextValue(Table):
    key_id = IntegerField()
    experiment_id = IntegerField()
    run_id = BigIntegerField()
    text = CharField()

    class Meta:
        table_name = "value_text"
        primary_key = CompositeKey("key_id", "experiment_id", "run_id")


class SavedView(Table):
    view_id = IntegerField(primary_key=True)
    uid = Binary()
    project_id = IntegerField()
    experiment_id = IntegerField(null=True)
    name = CharField()
    shared = BooleanField()
    author_id = IntegerField()
    arrangement = TextField()
    version = IntegerField()
    saved_at = DateTimeField()

    class Meta:
        table_name = "saved_view"


class ViewLink(Table):
    link_id = IntegerField(primary_key=True)
    secret_sha256 = Binary()
    project_id = IntegerField()
    experiment_id = IntegerField()
    arrangement = TextField()
    author_id = IntegerField()
    made_at = DateTimeField()
    expires_at = DateTimeField()
    revoked_at = DateTimeField(null=True)

    class Meta:
        table_name = "view_link"
