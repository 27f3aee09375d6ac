"""The tables as peewee sees them; their definition stands in `migrations/`."""

from __future__ import annotations

from peewee import (
    BigIntegerField,
    BooleanField,
    CharField,
    CompositeKey,
    DateTimeField,
    DoubleField,
    Field,
    IntegerField,
    Model,
    TextField,
)

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


class Project(Table):
    project_id = IntegerField(primary_key=True)
    name = CharField()
    description = TextField()
    created_by = IntegerField()
    created_at = DateTimeField()
    embedding_origins = TextField()
    labels = TextField()


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


class Member(Table):
    project_id = IntegerField()
    person_id = IntegerField()
    role = CharField()

    class Meta:
        primary_key = CompositeKey("project_id", "person_id")


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


class RunRow(Table):
    run_id = BigIntegerField(primary_key=True)
    uid = Binary()
    experiment_id = IntegerField()
    number = IntegerField()
    name = CharField(null=True)
    status = CharField()
    reason = CharField(null=True)
    author_id = IntegerField()
    host = CharField()
    parent_uid = Binary(null=True)
    started_at = DateTimeField()
    ended_at = DateTimeField(null=True)
    last_sign_at = DateTimeField()
    lease_s = IntegerField()
    changed_at = DateTimeField()
    resumed_at = DateTimeField(null=True)
    binned_at = DateTimeField(null=True)
    binned_by = IntegerField(null=True)
    purged_at = DateTimeField(null=True)
    purged_by = IntegerField(null=True)
    imported_at = DateTimeField(null=True)
    imported_from = CharField(null=True)

    class Meta:
        table_name = "run"


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


class Artifact(Table):
    artifact_id = IntegerField(primary_key=True)
    project_id = IntegerField()
    name = CharField()
    kind = CharField()
    created_by = IntegerField()
    created_at = DateTimeField()
    description = TextField()
    labels = TextField()


class ArtifactVersion(Table):
    version_id = BigIntegerField(primary_key=True)
    artifact_id = IntegerField()
    number = IntegerField()
    digest = Binary()
    by_reference = BooleanField()
    address = CharField(null=True)
    created_by = IntegerField()
    created_at = DateTimeField()
    about = TextField()
    labels = TextField()
    binned_at = DateTimeField(null=True)
    binned_by = IntegerField(null=True)
    bin_reason = CharField(null=True)
    purged_at = DateTimeField(null=True)
    purged_by = IntegerField(null=True)
    places = Binary(null=True)
    imported_at = DateTimeField(null=True)
    imported_from = CharField(null=True)


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


class RunArtifact(Table):
    run_id = BigIntegerField()
    uid = Binary()
    version_id = BigIntegerField()
    relation = CharField()
    role = CharField(null=True)
    step = BigIntegerField(null=True)
    recorded_at = DateTimeField()
    activity = CharField(null=True)
    keep = CharField(null=True)

    class Meta:
        primary_key = CompositeKey("run_id", "uid")


class ResultRecord(Table):
    run_id = BigIntegerField()
    uid = Binary()
    name = CharField()
    value = TextField()
    recorded_at = DateTimeField()

    class Meta:
        table_name = "result_record"
        primary_key = CompositeKey("run_id", "uid")


class ManifestBlob(Table):
    digest = Binary()
    sha256 = Binary()

    class Meta:
        table_name = "manifest_blob"
        primary_key = False


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


class KeptText(Table):
    project_id = IntegerField()
    sha256 = Binary()
    size_bytes = IntegerField()
    content = Binary()

    class Meta:
        table_name = "kept_text"
        primary_key = CompositeKey("project_id", "sha256")


class ResourceBlock(Table):
    run_id = BigIntegerField()
    first_at = BigIntegerField()
    uid = Binary()
    payload = Binary()

    class Meta:
        table_name = "resource_block"
        primary_key = CompositeKey("run_id", "first_at", "uid")


class Series(Table):
    series_id = BigIntegerField(primary_key=True)
    run_id = BigIntegerField()
    name = CharField()


class PointTail(Table):
    run_id = BigIntegerField()
    batch_uid = Binary()
    seq = BigIntegerField()
    n = IntegerField()
    payload = Binary()

    class Meta:
        primary_key = CompositeKey("run_id", "seq")


class PointChunk(Table):
    chunk_id = BigIntegerField(primary_key=True)
    series_id = BigIntegerField()
    first_step = BigIntegerField()
    first_time = BigIntegerField()
    last_step = BigIntegerField()
    last_time = BigIntegerField()
    n = IntegerField()
    stats = Binary()
    data = Binary()


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
