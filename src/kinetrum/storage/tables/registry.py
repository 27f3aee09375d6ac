"""Models, versions, stages, evidence."""

from __future__ import annotations

from peewee import BigIntegerField, BooleanField, CharField, CompositeKey, DateTimeField, IntegerField, TextField

from kinetrum.storage.tables.base import Binary, Table


class RegisteredModel(Table):
    model_id = IntegerField(primary_key=True)
    project_id = IntegerField()
    name = CharField()
    purpose = TextField()
    approvals_needed = IntegerField()
    second_pair = BooleanField()
    last_number = IntegerField()
    lead_number = IntegerField(null=True)
    created_by = IntegerField()
    created_at = DateTimeField()
    card = TextField()
    card_revision = IntegerField()
    card_sections = TextField()
    gates = TextField()
    owner_id = IntegerField(null=True)
    labels = TextField()
    image = CharField(null=True)
    renewed_approvals = BooleanField()
    lead_approvals = IntegerField()
    evidence_rules = TextField()
    imported_at = DateTimeField(null=True)
    imported_from = CharField(null=True)
    binned_at = DateTimeField(null=True)
    binned_by = IntegerField(null=True)

    class Meta:
        table_name = "model"


class ModelVersion(Table):
    model_id = IntegerField()
    number = IntegerField()
    uid = Binary()
    version_id = BigIntegerField()
    run_id = BigIntegerField(null=True)
    origin = CharField(null=True)
    comment = TextField()
    retired = BooleanField()
    created_by = IntegerField()
    created_at = DateTimeField()
    labels = TextField()
    added_values = TextField()
    signature = TextField(null=True)
    step = BigIntegerField(null=True)
    imported_at = DateTimeField(null=True)
    imported_from = CharField(null=True)

    class Meta:
        primary_key = CompositeKey("model_id", "number")


class StageRow(Table):
    model_id = IntegerField()
    position = IntegerField()
    name = CharField()
    asks_approved = BooleanField()
    least_role = CharField()
    placers = TextField()

    class Meta:
        table_name = "stage"
        primary_key = CompositeKey("model_id", "position")


class StageStay(Table):
    model_id = IntegerField()
    stage = CharField()
    depth = IntegerField()
    number = IntegerField()
    placed_by = IntegerField()
    placed_at = DateTimeField()
    approvals_asked = IntegerField()

    class Meta:
        primary_key = CompositeKey("model_id", "stage", "depth")


class StageEvent(Table):
    event_id = BigIntegerField(primary_key=True)
    model_id = IntegerField()
    uid = Binary()
    act = CharField()
    stage = CharField()
    before_number = IntegerField(null=True)
    after_number = IntegerField(null=True)
    person_id = IntegerField()
    comment = TextField()
    at = DateTimeField()
    checks = TextField(null=True)
    override_reason = TextField(null=True)
    imported_from = CharField(null=True)


class Verdict(Table):
    model_id = IntegerField()
    number = IntegerField()
    person_id = IntegerField()
    approves = BooleanField()
    comment = TextField()
    given_at = DateTimeField()

    class Meta:
        primary_key = CompositeKey("model_id", "number", "person_id")


class ImportedVerdict(Table):
    model_id = IntegerField()
    number = IntegerField()
    position = IntegerField()
    said_by = CharField()
    approves = BooleanField()
    comment = TextField()
    given_at = DateTimeField()

    class Meta:
        table_name = "imported_verdict"
        primary_key = CompositeKey("model_id", "number", "position")


class EvidenceRecord(Table):
    evidence_id = BigIntegerField(primary_key=True)
    uid = Binary()
    model_id = IntegerField()
    number = IntegerField()
    data_name = CharField()
    data_digest = CharField(null=True)
    run_id = BigIntegerField()
    rows_version = BigIntegerField(null=True)
    results = TextField()
    created_by = IntegerField()
    created_at = DateTimeField()
    imported_from = CharField(null=True)

    class Meta:
        table_name = "evidence"


class RowsJudgement(Table):
    inputs = Binary(primary_key=True)
    verdicts = TextField()
    judged_at = DateTimeField()


class VersionFetch(Table):
    model_id = IntegerField()
    number = IntegerField()
    person_id = IntegerField()
    asked = CharField()
    fetches = IntegerField()
    first_at = DateTimeField()
    last_at = DateTimeField()

    class Meta:
        table_name = "version_fetch"
        primary_key = CompositeKey("model_id", "number", "person_id", "asked")
