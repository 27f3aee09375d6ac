"""People, projects, notes, the journal."""

from __future__ import annotations

from peewee import (
    BigIntegerField,
    BooleanField,
    CharField,
    CompositeKey,
    DateField,
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
    deactivated_at = DateTimeField(null=True)
    subject = CharField(null=True)
    mail = CharField()
    time_zone = CharField()
    theme = CharField()
    machine_of = IntegerField(null=True)


class Token(Table):
    token_id = IntegerField(primary_key=True)
    person_id = IntegerField()
    name = CharField()
    secret_sha256 = Binary()
    created_at = DateTimeField()
    revoked_at = DateTimeField(null=True)
    scopes = TextField(null=True)
    projects = TextField(null=True)
    expires_at = DateTimeField(null=True)
    last_used_at = DateTimeField(null=True)
    last_used_from = CharField()
    made_by = IntegerField(null=True)


class Session(Table):
    secret_sha256 = Binary(primary_key=True)
    person_id = IntegerField()
    csrf_token = CharField()
    expires_at = DateTimeField()
    session_id = BigIntegerField()
    opened_at = DateTimeField(null=True)
    seen_at = DateTimeField(null=True)
    origin = CharField()


class AccountLink(Table):
    link_id = IntegerField(primary_key=True)
    secret_sha256 = Binary()
    person_id = IntegerField()
    purpose = CharField()
    made_by = IntegerField()
    made_at = DateTimeField()
    expires_at = DateTimeField()
    used_at = DateTimeField(null=True)

    class Meta:
        table_name = "account_link"


class SignInFailure(Table):
    of_sha256 = Binary(primary_key=True)
    failures = IntegerField()
    last_at = DateTimeField()

    class Meta:
        table_name = "sign_in_failure"


class PersonGroup(Table):
    person_id = IntegerField()
    name = CharField()

    class Meta:
        table_name = "person_group"
        primary_key = CompositeKey("person_id", "name")


class GroupRole(Table):
    project_id = IntegerField()
    name = CharField()
    role = CharField()

    class Meta:
        table_name = "group_role"
        primary_key = CompositeKey("project_id", "name")


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
    is_open = BooleanField()
    archived_at = DateTimeField(null=True)
    deleted_at = DateTimeField(null=True)


class EarlierProjectName(Table):
    name = CharField(primary_key=True)
    project_id = IntegerField()
    since = DateTimeField()

    class Meta:
        table_name = "earlier_project_name"


class ProjectQuota(Table):
    project_id = IntegerField(primary_key=True)
    bytes = BigIntegerField(null=True)
    runs_a_day = IntegerField(null=True)
    points_a_day = BigIntegerField(null=True)

    class Meta:
        table_name = "project_quota"


class ProjectSecret(Table):
    project_id = IntegerField()
    name = CharField()
    sealed = Binary()
    set_at = DateTimeField()
    set_by = IntegerField()

    class Meta:
        table_name = "project_secret"
        primary_key = CompositeKey("project_id", "name")


class ProjectDay(Table):
    project_id = IntegerField()
    day = DateField()
    runs = BigIntegerField()
    points = BigIntegerField()

    class Meta:
        table_name = "project_day"
        primary_key = CompositeKey("project_id", "day")


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
    token = CharField()

    class Meta:
        table_name = "journal"


class JournalDigest(Table):
    position = BigIntegerField(primary_key=True)
    entry_id = BigIntegerField()
    digest = Binary()

    class Meta:
        table_name = "journal_digest"
