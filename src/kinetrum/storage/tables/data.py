"""Artifacts, their versions, files and bytes."""

from __future__ import annotations

from peewee import BigIntegerField, BooleanField, CharField, CompositeKey, DateTimeField, IntegerField, TextField

from kinetrum.storage.tables.base import Binary, Table


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


class Manifest(Table):
    digest = Binary(primary_key=True)
    file_count = IntegerField()
    size_bytes = BigIntegerField()
    doc = Binary()
    indexed = BooleanField()


class ManifestBlob(Table):
    digest = Binary()
    sha256 = Binary()

    class Meta:
        table_name = "manifest_blob"
        primary_key = False


class BlobFile(Table):
    sha256 = Binary(primary_key=True)
    size_bytes = BigIntegerField()
    damaged = BooleanField()
    created_at = DateTimeField()

    class Meta:
        table_name = "blob_file"


class BlobInProject(Table):
    project_id = IntegerField()
    sha256 = Binary()

    class Meta:
        table_name = "blob_in_project"
        primary_key = CompositeKey("project_id", "sha256")


class BlobRelease(Table):
    sha256 = Binary(primary_key=True)
    size_bytes = BigIntegerField()
    released_at = DateTimeField()

    class Meta:
        table_name = "blob_release"
