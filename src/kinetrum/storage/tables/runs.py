"""Runs and all that was recorded in them."""

from __future__ import annotations

from peewee import BigIntegerField, BooleanField, CharField, CompositeKey, DateTimeField, IntegerField, TextField

from kinetrum.storage.tables.base import Binary, Table


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


class RunDocument(Table):
    run_id = BigIntegerField(primary_key=True)
    doc = Binary()

    class Meta:
        table_name = "run_doc"


class RunIngest(Table):
    run_id = BigIntegerField(primary_key=True)

    class Meta:
        table_name = "run_ingest"


class ResultRecord(Table):
    run_id = BigIntegerField()
    uid = Binary()
    name = CharField()
    value = TextField()
    recorded_at = DateTimeField()

    class Meta:
        table_name = "result_record"
        primary_key = CompositeKey("run_id", "uid")


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


class PointRollup(Table):
    series_id = BigIntegerField()
    first_step = BigIntegerField()
    mini = Binary()

    class Meta:
        table_name = "point_rollup"
        primary_key = CompositeKey("series_id", "first_step")


class RunOutput(Table):
    run_id = BigIntegerField(primary_key=True)
    next_line = BigIntegerField()
    head_end = BigIntegerField(null=True)
    kept_bytes = BigIntegerField()

    class Meta:
        table_name = "run_output"


class OutputBlock(Table):
    run_id = BigIntegerField()
    first_line = BigIntegerField()
    line_count = IntegerField()
    size_bytes = IntegerField()
    payload = Binary()

    class Meta:
        table_name = "output_block"
        primary_key = CompositeKey("run_id", "first_line")


class OutputWriter(Table):
    run_id = BigIntegerField()
    writer_uid = Binary()
    position = BigIntegerField()
    open_lines = TextField()

    class Meta:
        table_name = "output_writer"
        primary_key = CompositeKey("run_id", "writer_uid")


class StoredPlot(Table):
    plot_id = BigIntegerField(primary_key=True)
    run_id = BigIntegerField()
    uid = Binary()
    name = CharField()
    kind = CharField()
    step = BigIntegerField(null=True)
    row_count = IntegerField()
    recorded_at = DateTimeField()
    view = TextField()
    declared = BooleanField()
    numbers = TextField()
    note = TextField()
    payload = Binary()

    class Meta:
        table_name = "plot"
