"""Written by make openapi; see scripts/openapi.py."""

from __future__ import annotations

from typing import Any, Literal, NotRequired, TypeAlias, TypedDict


class AccountLink(TypedDict):
    link: str
    expires_at: str
    sent_to: str | None
    not_sent: str


class Activity(TypedDict):
    id: str
    name: str
    started_at: int
    ended_at: int | None
    failed: bool


class ArtifactDescription(TypedDict):
    description: NotRequired[str | None]
    labels: NotRequired[dict[str, str | None]]


class ArtifactVersion(TypedDict):
    reference: str
    name: str
    number: int
    kind: str
    digest: str
    by_reference: bool
    address: str | None
    file_count: int
    size_bytes: int
    damaged: bool
    created_at: str
    about: dict[str, Any]
    labels: dict[str, str]
    binned_at: str | None
    bin_reason: str | None
    purged_at: str | None
    imported_from: str | None


class Begun(TypedDict):
    reference: str
    id: str
    number: int
    name: str | None
    status: str


class BinnedThing(TypedDict):
    reference: str
    kind: Literal['run', 'version', 'model']
    name: str | None
    status: str
    author: str
    made_at: str
    binned_at: str
    binned_by: str | None
    reason: str | None
    size_bytes: int
    may_restore: bool


class BlobKept(TypedDict):
    sha256: str
    size_bytes: int


class BlobsKept(TypedDict):
    kept: int


class BoundEvidence(TypedDict):
    people: NotRequired[list[str]]
    experiment: NotRequired[str | None]


class Box(TypedDict):
    x: float
    y: float
    width: float
    height: float
    label: str
    score: float | None


class CardRevision(TypedDict):
    revision: int


class ChangedPassword(TypedDict):
    current: str
    password: str
    revoke_tokens: NotRequired[bool]


class Checkpoint(TypedDict):
    number: int
    run: str
    step: int
    values: dict[str, Any]


class ChildRun(TypedDict):
    reference: str
    name: str | None
    status: str
    started_at: str
    ended_at: str | None
    params: dict[str, Any]
    values: dict[str, Any]


class ChosenColumn(TypedDict):
    text: str
    scope: Literal['field', 'param', 'value', 'label']
    name: str
    aggregate: str | None


class ChosenPassword(TypedDict):
    password: str
    revoke_tokens: NotRequired[bool]


class Column(TypedDict):
    name: str
    type: Literal['number', 'true or false', 'time', 'text']


class ColumnChange(TypedDict):
    name: str
    rows: int
    mean: float | None
    least: float | None
    most: float | None


class ComparedRun(TypedDict):
    reference: str
    id: str
    label: str
    experiment: str
    name: str | None
    status: str
    started_at: str
    author: str
    replicates: list[str]


class ComparedSetting(TypedDict):
    key: str
    values: list[Any]
    present: list[bool]


class ContentDifference(TypedDict):
    sentence: str
    columns: list[ColumnChange]
    text: str


class Correction(TypedDict):
    params: dict[str, Any]
    comment: NotRequired[str]


class Curve(TypedDict):
    run: str
    id: str
    status: str
    steps: list[int]
    times: list[int]
    values: list[float | None]
    against: list[float | None] | None


class Curves(TypedDict):
    metric: str
    curves: list[Curve]


class DeletedProject(TypedDict):
    name: str
    deleted_at: str | None


class Deletion(TypedDict):
    confirmed: str


class Description(TypedDict):
    description: NotRequired[str | None]
    labels: NotRequired[dict[str, str | None]]


class DifferenceOfMeans(TypedDict):
    change: float
    low: float | None
    high: float | None
    probability: float | None
    beyond: bool | None
    confidence: float
    method: str
    needed: int | None


class Digests(TypedDict):
    sha256: list[str]


Direction: TypeAlias = Literal['higher', 'lower']


class DrawnRun(TypedDict):
    reference: str
    number: int
    name: str | None
    status: str


class DrawnSeries(TypedDict):
    name: str
    x: list[float | int | str | bool | list[Any] | None]
    y: list[float]
    of: int


class Embedding(TypedDict):
    origins: list[str]


class Ending(TypedDict):
    status: Literal['finished', 'failed', 'stopped']
    reason: NotRequired[str | None]
    ended_at: int


class Evidence(TypedDict):
    id: str
    number: int
    on: str
    digest: str | None
    run: str
    rows: str | None
    results: dict[str, Any]
    person: str
    at: str
    replaces: str | None
    refusal: str | None
    imported_from: str | None


class EvidenceRule(TypedDict):
    people: list[str]
    experiment: str | None


class ExperimentDescription(TypedDict):
    description: NotRequired[str | None]
    labels: NotRequired[dict[str, str | None]]
    generates_names: NotRequired[bool | None]


class Fault(TypedDict):
    position: int
    entry: int
    why: str


class Fetch(TypedDict):
    number: int
    person: str
    asked: str
    fetches: int
    first_at: str
    last_at: str


class FileEntry(TypedDict):
    path: str
    size: int
    sha256: str
    modified: int | None
    address: str | None


Finding: TypeAlias = Literal['only left', 'only right', 'changed', 'moved', 'same']


class FindingCount(TypedDict):
    finding: Finding
    sign: str
    files: int


class Folder(TypedDict):
    name: str
    files: int
    size_bytes: int


class FormField(TypedDict):
    name: str
    title: str
    first: str
    form: Literal['text', 'number', 'list']
    options: list[str]
    left_out: str


class FrequentValue(TypedDict):
    value: Any
    runs: int
    query: str


class GateCheck(TypedDict):
    kind: Literal['bound', 'better', 'approvals', 'card', 'signature', 'recorded', 'evidence']
    asks: str
    met: bool
    found: str
    figures: dict[str, float | None]


class GateForm(TypedDict):
    kind: str
    title: str
    several: bool
    fields: list[FormField]


class Gates(TypedDict):
    stage: str
    met: bool
    checks: list[GateCheck]


class GatesDraft(TypedDict):
    gates: str


class Goal(TypedDict):
    key: str
    direction: Direction
    unit: str | None
    bound: float | None
    aggregate: str


class GroupCurve(TypedDict):
    run: str
    runs: int
    steps: list[int]
    mean: list[float]
    low: list[float]
    high: list[float]


class GroupCurves(TypedDict):
    metric: str
    curves: list[GroupCurve]


class GroupRole(TypedDict):
    name: str
    role: str


class Headline(TypedDict):
    finding: str
    rest: str
    reason: str


class Health(TypedDict):
    status: str
    version: str


class Imported(TypedDict):
    source: str
    runs: dict[str, str]
    versions: dict[str, str]
    models: dict[str, str]
    views: list[str]
    known: list[str]
    remarks: list[str]


class ImportedVerdict(TypedDict):
    said_by: str
    approves: bool
    comment: str
    given_at: str


class Interaction(TypedDict):
    factors: list[str]
    p: float


class JoinedRows(TypedDict):
    left: str
    right: str
    key: str
    columns: list[Column]
    rows: list[list[Any]]
    total: int
    of: int
    judged: bool
    counts: dict[str, int]


class JournalRow(TypedDict):
    entry_id: int
    at: str
    person: str | None
    act: str
    subject: str
    before: Any
    after: Any
    comment: str
    origin: str
    token: str
    project: str | None


class KeptStep(TypedDict):
    run: str
    step: int | None
    version: int | None
    activity: str | None


class KeptThing(TypedDict):
    reference: str
    why: str


class Level(TypedDict):
    name: str
    runs: int
    mean: float
    low: float | None
    high: float | None


class LineageEdge(TypedDict):
    source: str
    target: str
    relation: Literal['used', 'generated', 'registered', 'began']
    role: str | None
    activity: str | None
    step: int | None


class LineageNode(TypedDict):
    id: str
    kind: Literal['file', 'artifact', 'run', 'model', 'group', 'hidden']
    reference: str
    family: str
    detail: str
    gone: bool
    stages: list[str]
    members: list[str]
    at: str
    person: str
    steps: int


class Link(TypedDict):
    reference: str
    name: str
    version: int
    kind: str
    digest: str
    role: str | None
    step: int | None
    activity: str | None


class LinkCurves(TypedDict):
    metric: str
    curves: list[Curve]


class LinkRow(TypedDict):
    reference: str
    number: int
    name: str | None
    status: str
    cells: list[Any]
    present: list[bool]


class Listing(TypedDict):
    folder: str
    folders: list[Folder]
    files: list[FileEntry]
    more_files: int


class MadePerson(TypedDict):
    name: str
    full_name: str
    is_admin: bool
    mail: str
    groups: list[str]
    roles: dict[str, str]
    created_at: str | None
    deactivated_at: str | None
    invited_until: str | None
    seen_at: str | None
    sessions: int
    tokens: int
    signs_in_elsewhere: bool
    link: str | None
    sent_to: str | None
    not_sent: str


class MadeToken(TypedDict):
    name: str
    secret: str
    scopes: list[str]
    projects: list[str] | None
    expires_at: str | None


class Mask(TypedDict):
    name: str
    file: str
    classes: dict[str, str]


class Matrix(TypedDict):
    names: list[str]
    cells: list[list[float]]


class Me(TypedDict):
    name: str
    full_name: str
    is_admin: bool
    csrf_token: str | None
    instance: str
    time_zone: str
    theme: str


class MeanSpread(TypedDict):
    runs: int
    mean: float
    deviation: float | None
    low: float | None
    high: float | None


class Member(TypedDict):
    name: str
    full_name: str
    role: str


class Metric(TypedDict):
    count: int
    nan_count: int
    first: Any
    last: Any
    min: Any
    max: Any
    mean: Any
    best: Any
    best_step: int | None
    first_step: int
    last_step: int
    line_steps: list[int]
    line_values: list[float | None]


class MissingBlobs(TypedDict):
    missing: list[str]


class ModelDescription(TypedDict):
    purpose: NotRequired[str | None]
    owner: NotRequired[str | None]
    labels: NotRequired[dict[str, str | None]]
    image: NotRequired[str | None]


class ModelRules(TypedDict):
    approvals_needed: NotRequired[int | None]
    second_pair: NotRequired[bool | None]
    card_sections: NotRequired[list[str] | None]
    renewed_approvals: NotRequired[bool | None]
    evidence: NotRequired[dict[str, BoundEvidence] | None]
    confirmed: NotRequired[bool]


class Moved(TypedDict):
    references: list[str]
    left_below: int


class Named(TypedDict):
    name: str
    things: list[str]


class NewActivity(TypedDict):
    name: str
    started_at: int
    ended_at: NotRequired[int | None]
    failed: NotRequired[bool]


class NewCard(TypedDict):
    card: str
    expect: int


class NewCheck(TypedDict):
    remove_orphans: NotRequired[bool]


class NewEmbedding(TypedDict):
    origins: list[str]


class NewEvidence(TypedDict):
    id: str
    on: str
    run: str


class NewFile(TypedDict):
    path: str
    size: int
    sha256: str
    modified: NotRequired[int | None]
    address: NotRequired[str | None]


class NewGate(TypedDict):
    gates: str
    stage: str
    kind: str
    fields: dict[str, str]


class NewGates(TypedDict):
    gates: str


class NewGoal(TypedDict):
    direction: Literal['higher', 'lower']
    unit: NotRequired[str | None]
    bound: NotRequired[float | None]
    aggregate: NotRequired[Literal['best', 'last', 'first', 'min', 'max', 'mean', 'count'] | Literal['best', 'last', 'first', 'min', 'max', 'mean', 'count'] | None]


class NewLead(TypedDict):
    version: int | None
    comment: NotRequired[str]


class NewLink(TypedDict):
    experiment: str
    arrangement: dict[str, str]
    days: NotRequired[int]


class NewMachineToken(TypedDict):
    name: str
    scopes: list[str]
    days: NotRequired[int | None]


class NewModelVersion(TypedDict):
    id: str
    artifact: str
    run: NotRequired[str | None]
    step: NotRequired[int | None]
    best: NotRequired[str | None]
    origin: NotRequired[str | None]
    comment: NotRequired[str]
    labels: NotRequired[dict[str, str]]
    values: NotRequired[dict[str, Any]]
    signature: NotRequired[dict[str, Any] | None]


class NewName(TypedDict):
    name: str | None


class NewNote(TypedDict):
    project: str
    kind: Literal['project', 'experiment', 'run', 'artifact', 'model']
    reference: str
    author: str
    text: str
    written_at: str


class NewNotes(TypedDict):
    things: list[str]
    id: str
    text: str


class NewPassword(TypedDict):
    password: str


class NewPerson(TypedDict):
    name: str
    full_name: str
    password: NotRequired[str | None]
    is_admin: NotRequired[bool]
    mail: NotRequired[str]


class NewPlot(TypedDict):
    id: str
    at: int
    name: str
    step: NotRequired[int | None]
    kind: NotRequired[str]
    columns: dict[str, list[Any]]
    view: dict[str, Any]
    numbers: NotRequired[dict[str, Any]]
    note: NotRequired[str]


class NewProblem(TypedDict):
    id: str
    text: str
    at: int


class NewProgress(TypedDict):
    done: int
    total: NotRequired[int | None]
    since: int
    at: int


class NewProject(TypedDict):
    name: str
    description: NotRequired[str]
    is_open: NotRequired[bool]


class NewPurge(TypedDict):
    things: NotRequired[list[str] | None]
    only_tell: NotRequired[bool]
    keep_files: NotRequired[bool]


class NewQuota(TypedDict):
    size_bytes: NotRequired[int | None]
    runs_a_day: NotRequired[int | None]
    points_a_day: NotRequired[int | None]


class NewResources(TypedDict):
    id: str
    samples: dict[str, list[float | int | None]]


class NewResult(TypedDict):
    id: str
    key: str
    value: Any
    at: int


class NewResults(TypedDict):
    results: list[NewResult]


class NewRole(TypedDict):
    role: str


class NewRun(TypedDict):
    started_at: int
    name: NotRequired[str | None]
    host: NotRequired[str]
    parent: NotRequired[str | None]
    lease_s: NotRequired[int]
    params: NotRequired[dict[str, Any]]
    goals: NotRequired[dict[str, NewGoal]]
    labels: NotRequired[dict[str, str]]
    about: NotRequired[dict[str, Any]]


class NewSavedView(TypedDict):
    name: str
    experiment: NotRequired[str | None]
    shared: NotRequired[bool]
    arrangement: dict[str, str]
    expect: NotRequired[int | None]


class NewSecret(TypedDict):
    value: str


class NewSeeds(TypedDict):
    seeds: list[str]


class NewStage(TypedDict):
    name: str
    asks_approved: NotRequired[bool]
    least_role: NotRequired[Literal['contributor', 'approver', 'maintainer']]
    placers: NotRequired[list[str]]


class NewToken(TypedDict):
    name: str
    person: NotRequired[str | None]
    scopes: NotRequired[list[str] | None]
    projects: NotRequired[list[str] | None]
    days: NotRequired[int | None]


class NewVerdict(TypedDict):
    verdict: Literal['approve', 'reject'] | None
    comment: NotRequired[str]


class NewView(TypedDict):
    name: str
    view: dict[str, Any]


class Note(TypedDict):
    id: str
    author: str
    text: str
    written_at: str
    imported_from: str | None


class NoteOn(TypedDict):
    id: str
    author: str
    text: str
    written_at: str
    imported_from: str | None
    may_remove: bool


class Offer(TypedDict):
    text: str
    what: str
    about: str


class Offers(TypedDict):
    at: int
    expected: str
    offers: list[Offer]


Outcome: TypeAlias = Literal['better', 'worse', 'within noise', 'too few to tell']


class OutcomeChange(TypedDict):
    change: float
    share: float | None
    verdict: Literal['better', 'worse', 'equal'] | None
    difference: DifferenceOfMeans


class OutputKept(TypedDict):
    position: int


class OutputLine(TypedDict):
    number: int | None
    at: int
    stream: Literal['stdout', 'stderr', 'kinetrum']
    text: str


class Own(TypedDict):
    name: str
    full_name: str
    is_admin: bool
    mail: str
    time_zone: str
    theme: str
    groups: list[str]
    roles: dict[str, str]
    has_password: bool


class OwnChange(TypedDict):
    full_name: NotRequired[str | None]
    time_zone: NotRequired[str | None]
    theme: NotRequired[str | None]


class PackageChange(TypedDict):
    name: str
    here: str | None
    there: str | None


class PackageChoice(TypedDict):
    name: str
    before: str | None
    after: str | None


class PaletteMatch(TypedDict):
    kind: str
    reference: str
    title: str
    about: str
    project: str
    address: str


class Params(TypedDict):
    params: dict[str, Any]


class Person(TypedDict):
    name: str
    full_name: str
    is_admin: bool
    mail: str
    groups: list[str]
    roles: dict[str, str]
    created_at: str | None
    deactivated_at: str | None
    invited_until: str | None
    seen_at: str | None
    sessions: int
    tokens: int
    signs_in_elsewhere: bool


class PersonChange(TypedDict):
    full_name: NotRequired[str | None]
    mail: NotRequired[str | None]
    is_admin: NotRequired[bool | None]
    is_active: NotRequired[bool | None]
    groups: NotRequired[list[str] | None]


class PlotView(TypedDict):
    mark: Literal['line', 'steps', 'points', 'bars', 'matrix']
    x: str
    y: list[str]
    group: str | None
    title: str
    x_name: str
    y_name: str
    x_scale: Literal['linear', 'log']
    y_scale: Literal['linear', 'log']
    share: Literal['count', 'row', 'column']
    diagonal: bool


class Points(TypedDict):
    metric: str
    steps: list[int]
    times: list[int]
    values: list[float | str]


class PointsKept(TypedDict):
    values: int


class Preview(TypedDict):
    kind: Literal['text', 'markdown', 'table', 'image', 'model', 'archive', 'bytes']
    text: str
    language: str
    columns: list[str]
    rows: list[list[str]]
    facts: list[tuple[str, str]]
    note: str


class Printed(TypedDict):
    position: int
    at: int
    stream: Literal['stdout', 'stderr', 'kinetrum']
    text: str


class Problem(TypedDict):
    type: str
    title: str
    status: int
    detail: str
    field: str | None
    column: int | None


class ProblemOfRun(TypedDict):
    text: str
    at: int


class ProcessRow(TypedDict):
    name: str
    seen_at: str


class Progress(TypedDict):
    done: int
    total: int | None
    since: int
    at: int
    expected_end: str | None


class Project(TypedDict):
    name: str
    description: str
    labels: dict[str, str]
    role: str
    experiments: int
    runs: int
    last_activity: str | None
    is_open: bool
    archived_at: str | None


class ProjectChange(TypedDict):
    name: NotRequired[str | None]
    is_open: NotRequired[bool | None]
    is_archived: NotRequired[bool | None]


class ProjectSettings(TypedDict):
    name: str
    earlier_names: list[str]
    is_open: bool
    archived_at: str | None
    members: list[Member]
    groups: list[GroupRole]


class ProjectSize(TypedDict):
    project: str
    files: int
    size_bytes: int


class ProjectUsage(TypedDict):
    project: str
    files: int
    size_bytes: int


class Promotion(TypedDict):
    id: str
    version: int
    expect: int | None
    comment: NotRequired[str]
    override: NotRequired[str | None]


class Purge(TypedDict):
    runs: list[str]
    versions: list[str]
    kept: list[KeptThing]
    files: int
    size_bytes: int
    recorded_bytes: int


class Quota(TypedDict):
    size_bytes: int | None
    runs_a_day: int | None
    points_a_day: int | None


class Reason(TypedDict):
    kind: Literal['setting', 'data', 'code', 'environment', 'noise']
    name: str
    weight: float
    text: str
    expected: float | None


class References(TypedDict):
    runs: list[str]


class Removed(TypedDict):
    runs: int
    versions: int
    freed_bytes: int


class Repository(TypedDict):
    address: NotRequired[str | None]
    commit: NotRequired[str | None]
    branch: NotRequired[str | None]
    state: NotRequired[str | None]
    changed_files: NotRequired[int]
    untracked_files: NotRequired[int]
    untracked_code: NotRequired[list[str]]
    entry: NotRequired[str | None]
    hidden_lines: NotRequired[int]
    cut: NotRequired[str | None]


class Resources(TypedDict):
    samples: dict[str, list[float | int | None]]


class ResultRecord(TypedDict):
    key: str
    value: Any
    recorded_at: str


class Resumption(TypedDict):
    at: int


class Retirement(TypedDict):
    retired: bool
    comment: NotRequired[str]


Review: TypeAlias = Literal['pending', 'approved', 'rejected']


class ReviewChange(TypedDict):
    number: int
    before: Review
    after: Review
    stages: list[str]


class ReviewState(TypedDict):
    review: str


class Rows(TypedDict):
    table: str
    path: str
    columns: list[Column]
    rows: list[list[Any]]
    total: int
    of: int
    judged: bool
    wrong: int | None


class RowsVerdict(TypedDict):
    measure: str
    higher_is_better: bool
    rows: int
    left: float | None
    right: float | None
    change: float | None
    low: float | None
    high: float | None
    probability: float | None
    confidence: float
    method: str
    outcome: Outcome
    needed: int | None
    counted: int | None
    only_left_right: int | None
    only_right_right: int | None
    left_out: int


class RunColumn(TypedDict):
    scope: Literal['param', 'value', 'label']
    name: str
    differs: bool


class RunDetail(TypedDict):
    reference: str
    id: str
    project: str
    experiment: str
    number: int
    name: str | None
    status: str
    reason: str | None
    author: str
    host: str
    started_at: str
    ended_at: str | None
    params: dict[str, Any]
    values: dict[str, Any]
    metrics: dict[str, Metric]
    labels: dict[str, str]
    problems: list[ProblemOfRun]
    used: list[Link]
    generated: list[Link]
    progress: Progress | None
    imported_from: str | None
    commit: str | None
    code_state: Literal['clean', 'changed', 'unversioned'] | None
    parent_id: str | None
    complete: bool
    results: dict[str, Any]
    goals: list[Goal]
    about: dict[str, Any]
    parent: str | None
    previous: str | None
    children: list[ChildRun]
    versions: list[str]
    metric_names: list[str]
    notes: list[Note]
    resumed_at: str | None
    last_sign_at: str
    lease_s: int
    binned_at: str | None
    purged_at: str | None
    binned_by: str | None
    activities: list[Activity]
    code: Repository | None
    job: dict[str, str]
    output_lines: int
    has_resources: bool
    may: list[Literal['describe', 'record', 'bin']]


class RunOfVersion(TypedDict):
    relation: Literal['used', 'generated']
    run: str
    status: str
    author: str
    name: str | None
    role: str | None
    step: int | None
    activity: str | None
    at: str
    purged: bool


class RunRow(TypedDict):
    reference: str
    id: str
    project: str
    experiment: str
    number: int
    name: str | None
    status: str
    reason: str | None
    author: str
    host: str
    started_at: str
    ended_at: str | None
    params: dict[str, Any]
    values: dict[str, Any]
    metrics: dict[str, Metric]
    labels: dict[str, str]
    problems: list[ProblemOfRun]
    used: list[Link]
    generated: list[Link]
    progress: Progress | None
    imported_from: str | None
    commit: str | None
    code_state: Literal['clean', 'changed', 'unversioned'] | None
    parent_id: str | None
    complete: bool
    children: int
    parent: str | None


class SaidNumber(TypedDict):
    name: str
    values: list[Any]
    change: Any


class SavedView(TypedDict):
    id: str
    name: str
    experiment: str | None
    shared: bool
    mine: bool
    author: str
    arrangement: dict[str, str]
    version: int
    saved_at: str


class SecretRow(TypedDict):
    name: str
    set_at: str
    set_by: str


class SeenRun(TypedDict):
    project: str
    reference: str
    experiment: str
    number: int
    name: str | None
    status: str
    author: str
    started_at: str
    ended_at: str | None
    goal: Goal | None
    value: Any
    is_best: bool
    progress: Progress | None
    expected_end: str | None
    expected_by: Literal['progress', 'earlier runs'] | None
    look: str | None


class Session(TypedDict):
    id: int
    opened_at: str | None
    seen_at: str | None
    expires_at: str
    origin: str
    is_this: bool


class SetAside(TypedDict):
    key: str
    text: str


class ShownItem(TypedDict):
    file: str
    kind: Literal['image', 'sound', 'video', 'text', 'table'] | None
    type: str | None
    size: int
    sha256: str
    caption: str
    boxes: list[Box]
    masks: list[Mask]


class ShownVersion(TypedDict):
    reference: str
    kind: str
    items: list[ShownItem]
    note: str


class SignIn(TypedDict):
    name: str
    password: str


class SignatureField(TypedDict):
    name: str
    type: str
    shape: list[int | str | None]


class Spread(TypedDict):
    runs: int
    mean: float
    deviation: float | None
    low: float
    high: float


class Stage(TypedDict):
    name: str
    asks_approved: bool
    least_role: str
    placers: list[str]
    occupant: int | None
    since: str | None
    placed_by: str | None
    warning: str | None
    why_not: str | None


class StageAct(TypedDict):
    id: str
    expect: int | None
    comment: NotRequired[str]


class StageAtAGlance(TypedDict):
    name: str
    occupant: int | None
    since: str | None
    placed_by: str | None
    warning: str | None


class StageChange(TypedDict):
    project: str
    model: str
    act: str
    stage: str
    before: int | None
    after: int | None
    person: str
    at: str


class StageEvent(TypedDict):
    act: Literal['promote', 'demote', 'roll back']
    stage: str
    before: int | None
    after: int | None
    person: str
    comment: str
    at: str
    checks: list[GateCheck] | None
    override_reason: str | None
    imported_from: str | None


class Surroundings(TypedDict):
    code: Repository | None
    difference: str | None
    script: str | None
    packages: dict[str, str]
    job: dict[str, str]
    about: dict[str, Any]
    against: str | None
    against_code: Repository | None
    code_change: Literal['same', 'other commit', 'other uncommitted changes', 'unknown'] | None
    code_change_text: str | None
    package_changes: list[PackageChange]
    about_changes: list[PackageChange]


class Taken(TypedDict):
    name: str
    things: int
    files: int
    size_bytes: int
    alone_bytes: int
    binned: int
    binned_bytes: int


class TakenBy(TypedDict):
    person: str
    versions: int
    size_bytes: int


class ThingName(TypedDict):
    name: str


class ThingsNamed(TypedDict):
    things: list[str]
    children: NotRequired[bool]


class TokenView(TypedDict):
    name: str
    scopes: list[str]
    projects: list[str] | None
    created_at: str
    expires_at: str | None
    last_used_at: str | None
    last_used_from: str
    made_by: str | None


class Trouble(TypedDict):
    project: str
    model: str
    stage: str
    number: int
    warning: str


class UploadState(TypedDict):
    offset: int
    complete: bool


class Usage(TypedDict):
    files: int
    size_bytes: int
    artifacts: list[Taken]
    experiments: list[Taken]
    binned_runs: int
    binned_versions: int
    frees_bytes: int
    disk_free_bytes: int
    may_purge: bool
    quota: Quota
    runs_today: int
    points_today: int
    people: list[TakenBy]


class Use(TypedDict):
    version: str
    run: RunOfVersion


class Uses(TypedDict):
    what: str
    exact: bool
    versions: list[ArtifactVersion]
    uses: list[Use]


class Verdict(TypedDict):
    person: str
    approves: bool
    comment: str
    given_at: str
    older: bool


class VersionLabels(TypedDict):
    labels: dict[str, str | None]


class ViewLink(TypedDict):
    number: int
    experiment: str
    arrangement: dict[str, str]
    author: str
    made_at: str
    expires_at: str
    secret: str | None


class WaitingVersion(TypedDict):
    project: str
    model: str
    number: int
    comment: str
    registered_by: str
    registered_at: str
    run: str | None


class WaysIn(TypedDict):
    passwords: bool
    elsewhere: str | None


class Welcome(TypedDict):
    name: str
    full_name: str
    purpose: str
    expires_at: str


class Why(TypedDict):
    key: str
    left: str
    right: str
    reasons: list[Reason]


class KinetrumWireRegistryNewLabels(TypedDict):
    labels: dict[str, str | None]


class KinetrumWireRunsNewLabels(TypedDict):
    runs: list[str]
    labels: dict[str, str | None]


class PointGroup(TypedDict):
    keys: list[str]
    steps: list[int]
    times: list[int]
    values: list[list[float | Literal['NaN', 'Infinity', '-Infinity']]]


class PointBatch(TypedDict):
    groups: list[PointGroup]


class Artifact(TypedDict):
    name: str
    kind: str
    description: str
    labels: dict[str, str]
    versions: list[ArtifactVersion]
    may: list[str]
    checkpoints: list[Checkpoint]
    goals: list[Goal]


class ArtifactVersionDetail(TypedDict):
    reference: str
    name: str
    number: int
    kind: str
    digest: str
    by_reference: bool
    address: str | None
    file_count: int
    size_bytes: int
    damaged: bool
    created_at: str
    about: dict[str, Any]
    labels: dict[str, str]
    binned_at: str | None
    bin_reason: str | None
    purged_at: str | None
    imported_from: str | None
    files: list[FileEntry]
    runs: list[RunOfVersion]
    made_by: str
    models: list[str]
    equal: list[str]


class ChainState(TypedDict):
    entries: int
    digest: str
    fault: Fault | None
    unchained: int


class ComparedOutcome(TypedDict):
    key: str
    goal: Goal | None
    values: list[Any]
    present: list[bool]
    spreads: list[MeanSpread | None]
    changes: list[OutcomeChange | None]
    change: float | None
    change_share: float | None
    verdict: Literal['better', 'worse', 'equal'] | None
    best: list[bool]


class Comparison(TypedDict):
    runs: list[ComparedRun]
    baseline: int
    headline: Headline
    settings: list[ComparedSetting]
    settings_equal: int
    inputs: list[ComparedSetting]
    inputs_equal: int
    surroundings: list[ComparedSetting]
    surroundings_equal: int
    costs: list[ComparedOutcome]
    outcomes: list[ComparedOutcome]
    outcomes_equal: int
    metrics: list[str]


class DrawnColumn(TypedDict):
    text: str
    scope: str
    name: str
    aggregate: str | None
    goal: Goal | None
    values: list[Any]


class Effect(TypedDict):
    factor: str
    runs: int
    levels: list[Level]
    share: float
    p: float
    certainty: Literal['clear', 'likely', 'open']
    rank: float | None
    together: list[str]


class Effects(TypedDict):
    key: str
    goal: Goal | None
    runs: int
    left_out: int
    sentence: str
    effects: list[Effect]
    interactions: list[Interaction]
    unvaried: list[str]


class Experiment(TypedDict):
    name: str
    description: str
    labels: dict[str, str]
    seeds: list[str]
    generates_names: bool
    earlier_names: list[str]
    runs: int
    running: int
    last_activity: str | None
    goals: list[Goal]
    best_run: str | None
    best_value: Any


class Facet(TypedDict):
    column: ChosenColumn
    runs: int
    of_runs: int
    of_runs_is_capped: bool
    nans: int
    low: float | None
    high: float | None
    values: list[FrequentValue]
    values_left_out: int


class FacetKey(TypedDict):
    scope: str
    name: str
    kinds: list[str]
    low: float | None
    high: float | None
    goal: Goal | None


class Facets(TypedDict):
    keys: list[FacetKey]
    fields: list[str]


class FilePair(TypedDict):
    finding: Finding
    left: FileEntry | None
    right: FileEntry | None


class GroupCell(TypedDict):
    is_shared: bool
    shared: Any
    spread: Spread | None
    several: int


class InstanceState(TypedDict):
    at: str
    version: str
    processes: list[ProcessRow]
    database_version: str
    database_bytes: int
    files: int
    store_bytes: int
    disk_free_bytes: int
    people: int
    runs: int
    waiting_runs: int
    journal_entries: int
    journal_digest: str
    projects: list[ProjectSize]
    troubles: list[str]


class InstanceUsage(TypedDict):
    projects: list[ProjectUsage]
    files: int
    size_bytes: int
    disk_free_bytes: int


class JudgedRows(TypedDict):
    name: str
    differences: list[RowsVerdict]
    note: str


class KeptName(TypedDict):
    name: str
    kind: str
    steps: list[KeptStep]


class KeptPlot(TypedDict):
    name: str
    kind: str
    step: int | None
    rows: int
    recorded_at: str
    view: PlotView
    declared: bool
    numbers: dict[str, Any]
    note: str
    run: str
    run_name: str | None
    column_names: list[str]
    columns: dict[str, list[Any]]
    matrix: Matrix | None


class Lineage(TypedDict):
    start: str
    sentence: str
    nodes: list[LineageNode]
    edges: list[LineageEdge]
    count: int
    cut: bool


class LinkPage(TypedDict):
    project: str
    experiment: str
    author: str
    expires_at: str
    arrangement: dict[str, str]
    columns: list[ChosenColumn]
    goals: list[Goal]
    rows: list[LinkRow]
    count: int
    count_is_capped: bool
    more: bool


class ModelAtAGlance(TypedDict):
    name: str
    project: str
    purpose: str
    person: str
    labels: dict[str, str]
    image: str | None
    stages: list[StageAtAGlance]
    lead: int | None
    versions: int
    reviews: dict[str, int]
    newest_at: str | None


class ModelList(TypedDict):
    models: list[ModelAtAGlance]
    count: int


class NewContent(TypedDict):
    id: str
    at: int
    name: NotRequired[str | None]
    kind: NotRequired[str]
    files: NotRequired[list[NewFile]]
    by_reference: NotRequired[bool]
    named: NotRequired[bool]
    address: NotRequired[str | None]
    role: NotRequired[str | None]
    step: NotRequired[int | None]
    artifact: NotRequired[str | None]
    activity: NotRequired[str | None]
    about: NotRequired[dict[str, Any]]
    labels: NotRequired[dict[str, str]]
    keep: NotRequired[str | None]


class NewLadder(TypedDict):
    stages: list[NewStage]


class NewOutput(TypedDict):
    writer: str
    pieces: list[Printed]


class NewSurroundings(TypedDict):
    code: NotRequired[Repository | None]
    difference: NotRequired[str | None]
    script: NotRequired[str | None]
    packages: NotRequired[dict[str, str] | None]
    job: NotRequired[dict[str, str] | None]
    about: NotRequired[dict[str, Any]]


class OnData(TypedDict):
    on: str
    candidate: dict[str, Any]
    other: dict[str, Any]
    same_data: bool | None
    differences: list[RowsVerdict]
    note: str


class Output(TypedDict):
    lines: list[OutputLine]
    unfinished: list[OutputLine]
    next_line: int
    head_end: int
    tail_begin: int
    kept_bytes: int
    more: bool


class ParamsSet(TypedDict):
    set_aside: list[SetAside]


class PlotListed(TypedDict):
    name: str
    kind: str
    step: int | None
    rows: int
    recorded_at: str
    view: PlotView
    declared: bool
    numbers: dict[str, Any]
    note: str


class Plots(TypedDict):
    plots: list[KeptPlot]
    series: list[DrawnSeries]
    places: list[str]
    numbers: list[SaidNumber]
    without: list[str]


class RunGroup(TypedDict):
    present: bool
    value: Any
    runs: int
    last: RunRow
    cells: list[GroupCell | None]
    query: str


class RunPage(TypedDict):
    rows: list[RunRow]
    columns: list[RunColumn]
    goals: list[Goal]
    seeds: list[str]
    count: int
    count_is_capped: bool
    next_cursor: str | None
    remarks: list[str]
    chosen: list[ChosenColumn]
    python: str
    shell: str


class Signature(TypedDict):
    inputs: list[SignatureField]
    outputs: list[SignatureField]
    source: str


class Today(TypedDict):
    at: str
    since: str
    first_visit: bool
    running: list[SeenRun]
    ended: list[SeenRun]
    ended_more: bool
    waiting: list[WaitingVersion]
    stage_changes: list[StageChange]
    troubles: list[Trouble]
    notes: list[NewNote]


class Difference(TypedDict):
    left: ArtifactVersion
    right: ArtifactVersion
    sentence: str
    counts: list[FindingCount]
    pairs: list[FilePair]
    more: int


class Drawn(TypedDict):
    runs: list[DrawnRun]
    columns: list[DrawnColumn]
    left_out: int


class GroupPage(TypedDict):
    by: ChosenColumn
    groups: list[RunGroup]
    columns: list[ChosenColumn]
    goals: list[Goal]
    count: int
    count_is_capped: bool
    more: bool
    remarks: list[str]
    python: str
    shell: str


class Kept(TypedDict):
    plots: list[KeptName]
    media: list[KeptName]


class ModelVersion(TypedDict):
    reference: str
    number: int
    artifact: ArtifactVersion
    run: str | None
    origin: str | None
    comment: str
    registered_by: str
    registered_at: str
    review: Literal['pending', 'approved', 'rejected']
    retired: bool
    damaged: bool
    verdicts: list[Verdict]
    approvals_needed: int
    stages: list[str]
    values: dict[str, Any]
    step: int | None
    earlier: dict[str, int]
    left_out: list[str]
    warning: str | None
    imported_from: str | None
    goals: list[Goal]
    artifact_project: str | None
    labels: dict[str, str]
    signature: Signature | None
    overrides: list[str]


class ModelVersionDetail(TypedDict):
    reference: str
    number: int
    artifact: ArtifactVersion
    run: str | None
    origin: str | None
    comment: str
    registered_by: str
    registered_at: str
    review: Literal['pending', 'approved', 'rejected']
    retired: bool
    damaged: bool
    verdicts: list[Verdict]
    approvals_needed: int
    stages: list[str]
    values: dict[str, Any]
    step: int | None
    earlier: dict[str, int]
    left_out: list[str]
    warning: str | None
    imported_from: str | None
    goals: list[Goal]
    artifact_project: str | None
    labels: dict[str, str]
    signature: Signature | None
    overrides: list[str]
    model: str
    files: list[FileEntry]
    evidence: list[Evidence]
    dependencies: dict[str, str]
    obstacles: dict[str, str | None]
    why_not_approve: str | None
    left_out_evidence: dict[str, str]
    imported_verdicts: list[ImportedVerdict]


class VersionReview(TypedDict):
    sentence: str
    candidate: ModelVersionDetail
    other: ModelVersionDetail | None
    stage: str | None
    checks: list[GateCheck]
    obstacle: str | None
    why_not_place: str | None
    on_data: list[OnData]
    misfits: list[str] | None
    packages: list[PackageChoice]
    emptied: str | None


class Model(TypedDict):
    name: str
    project: str
    purpose: str
    person: str
    person_name: str
    created_at: str
    labels: dict[str, str]
    image: str | None
    approvals_needed: int
    second_pair: bool
    renewed_approvals: bool
    evidence_rules: dict[str, EvidenceRule]
    card: str
    card_revision: int
    card_sections: list[str]
    missing_sections: list[str]
    gates: str
    stages: list[Stage]
    versions: list[ModelVersion]
    events: list[StageEvent]
    lead: int | None
    lead_chosen: bool
    why_not: dict[str, str | None]
    imported_from: str | None
    binned_at: str | None
