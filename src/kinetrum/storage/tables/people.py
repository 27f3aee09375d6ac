"""People, projects, notes, the journal."""

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


class Person(Table):
    person_id = IntegerField(primary_key=True)
    name = CharField()
    full_name = CharField()
    password_hash = CharField()
    is_admin = BooleanField()
    created_at = DateTimeField()


class Token(Table):
    token_id = IntegerField(primary_key=True)
    person_id = IntegerField()
    name = CharField()
    secret_sha256 = Binary()
    created_at = DateTimeField()
    revoked_at = DateTimeField(null=True)


class Session(Table):
    secret_sha256 = Binary(primary_key=True)
    person_id = IntegerField()
    csrf_token = CharField()
    expires_at = DateTimeField()


class Member(Table):
    project_id = IntegerField()
    person_id = IntegerField()
    role = CharField()

    class Meta:
        primary_key = CompositeKey("project_id", "person_id")


class Visit(Table):
    person_id = IntegerField(primary_key=True)
    visited_at = DateTimeField()
    before_at = DateTimeField(null=True)


class Project(Table):
    project_id = IntegerField(primary_key=True)
    name = CharField()
    description = TextField()
    created_by = IntegerField()
    created_at = DateTimeField()
    embedding_origins = TextField()
    labels = TextField()


class Experiment(Table):
    experiment_id = IntegerField(primary_key=True)
    project_id = IntegerField()
    name = CharField()
    description = TextField()
    labels = TextField()
    seeds = TextField()
    generates_names = BooleanField()
    marked_to = BigIntegerField(null=True)
    last_number = IntegerField()
    created_by = IntegerField()
    created_at = DateTimeField()


class EarlierName(Table):
    project_id = IntegerField()
    kind = CharField()
    name = CharField()
    row_id = IntegerField()
    since = DateTimeField()

    class Meta:
        table_name = "earlier_name"
        primary_key = CompositeKey("project_id", "kind", "name")


class ThingName(Table):
    project_id = IntegerField()
    name = CharField()
    thing = CharField()

    class Meta:
        table_name = "thing_name"
        primary_key = CompositeKey("project_id", "name")


class GoalRow(Table):
    experiment_id = IntegerField()
    name = CharField()
    position = IntegerField()
    direction = CharField()
    unit = CharField(null=True)
    bound = DoubleField(null=True)
    aggregate = CharField()

    class Meta:
        table_name = "goal"
        primary_key = CompositeKey("experiment_id", "name")


class NoteRow(Table):
    note_id = BigIntegerField(primary_key=True)
    uid = Binary()
    project_id = IntegerField()
    subject_kind = CharField()
    subject_id = BigIntegerField()
    author_id = IntegerField()
    text = TextField()
    written_at = DateTimeField()
    imported_from = CharField(null=True)

    class Meta:
        table_name = "note"


class JournalEntry(Table):
    entry_id = BigIntegerField(primary_key=True)
    project_id = IntegerField(null=True)
    person_id = IntegerField(null=True)
    at = DateTimeField()
    act = CharField()
    subject = CharField()
    state_before = TextField(null=True)
    state_after = TextField(null=True)
    comment = TextField()
    origin = CharField()

    class Meta:
        table_name = "journal"
