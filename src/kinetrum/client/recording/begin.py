"""How a program comes by a run: it begins one, joins one that another process began, or takes one up again."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass

from kinetrum.client.capture import standard_streams
from kinetrum.client.capture.about import about_process, parts_left_out
from kinetrum.client.capture.environment import Looking
from kinetrum.client.capture.host import host_name
from kinetrum.client.capture.notebook_cells import current_cell, current_shell
from kinetrum.client.display.notices import say_once, was_said
from kinetrum.client.recording import exit_hooks
from kinetrum.client.recording.parameters import as_settings
from kinetrum.client.recording.run import Run
from kinetrum.client.sender.launch import start_sender
from kinetrum.client.spool.complete_segment import new_id
from kinetrum.client.spool.destinations import destination_of, keep_destination
from kinetrum.client.spool.obstructions import ask_again, obstruction_of
from kinetrum.client.spool.spool import current_writer
from kinetrum.client.transport.connection import Connection, find_connection
from kinetrum.core.base.errors import InvalidInput, NotFound
from kinetrum.core.base.goals import Goal, read_goal
from kinetrum.core.base.ids import id_bytes, is_id
from kinetrum.core.base.refs import RunRef, parse_ref
from kinetrum.core.base.values import (
    JsonObject,
    Value,
    check_key,
    check_label,
    check_name,
    check_run_name,
    check_value,
    same,
    to_json,
)
from kinetrum.places import has_home, home_folder

DEFAULT_LEASE_S = 120
_STILL_OPEN = (
    "is still open beside the run that begins now. It ends by its own end() or with the program; where nothing refers "
    "to it any more, it is stopped."
)


def begin(  # noqa: PLR0913
    experiment: str | None = None,
    *,
    project: str | None = None,
    name: str | None = None,
    params: object = None,
    seed: int | None = None,
    labels: dict[str, str] | None = None,
    goals: JsonObject | None = None,
    parent: Run | str | None = None,
    lease_s: int = DEFAULT_LEASE_S,
    output: bool | None = None,
    leave_out: Iterable[str] | None = None,
    url: str | None = None,
) -> Run:
    """Begin a run and return it at once; nothing waits for the service.

    `params` is a dictionary, a dataclass, a Pydantic model, an `argparse.Namespace`, an estimator, or the path of a
    TOML, YAML or JSON file; what is nested becomes dotted keys, and what has no plain form a short text.
    `seed` is the parameter in which replicates differ.
    `goals` says per key which direction is better, such as `{"recall": "higher >= 0.9", "fit_seconds":
    "lower"}`; goals that the experiment has already stay. `parent` is a run or a run's id. `lease_s` is how
    many seconds without a sign of life make the run lost.

    What surrounds the run is caught by itself, but for the parts named in `leave_out`: command, user, host,
    packages, code, job, resources, output, figures, or all. What the process prints goes to the run that is open alone,
    or that asks for it by `output=True`. Within a run that `kinetrum track` or `kinetrum begin` made
    (KINETRUM_RUN) this run becomes its child.

    Raises InvalidInput for what is wrong in the arguments, in the caller's line; NotFound for a file of
    settings that is not there.
    `experiment` and `project` are where it belongs, `name` is what it is called, `labels` are its labels; `url`
    names another service than the connection's.
    """
    connection = find_connection(url, project, experiment, needs_service=False)
    without_form: list[str] = []
    settings = _settings_of(params, seed, without_form)
    checked = {check_key(key): read_goal(key, text) for key, text in (goals or {}).items()}
    tags = {key: check_label(key, text) for key, text in (labels or {}).items()}
    run_name, above = check_run_name(name), _parent_id(parent) or _tracked_run()
    left_out = parts_left_out(leave_out)
    address = _address(connection, new_id())
    _end_runs_of_this_cell()
    if above is None:
        _tell_of_open_runs()
    writer = current_writer()
    run = Run(address, settings, name=run_name)
    run._cell = current_cell()
    run._note_without_form(without_form)
    beginning = _Beginning(run_name, above, tags, checked, lease_s)
    _write_beginning(run, settings, beginning, left_out)
    _watch_surroundings(run, output, left_out, above)
    exit_hooks.watch(run)
    start_sender(writer.root)
    return run


@dataclass(frozen=True)
class _Beginning:
    """What a run's beginning says beside its settings."""

    name: str | None
    above: str | None
    labels: dict[str, str]
    goals: dict[str, Goal]
    lease_s: int


def _settings_of(params: object, seed: int | None, without_form: list[str]) -> dict[str, Value]:
    settings = as_settings(params, without_form)
    if seed is not None:
        if "seed" in settings and not same(settings["seed"], seed):
            raise InvalidInput("The parameter 'seed' is given twice with different values.", field="seed")
        settings["seed"] = check_value(seed, "seed")
    return settings


def _write_beginning(run: Run, settings: dict[str, Value], beginning: _Beginning, left_out: frozenset[str]) -> None:
    run._recorder.write(
        "begin",
        started_at=run._recorder.writer.now(),
        name=beginning.name,
        lease_s=beginning.lease_s,
        host="" if "host" in left_out else host_name(),
        parent=beginning.above,
        labels=beginning.labels,
        about=about_process(left_out),
        watched="resources" not in left_out,
        params={key: to_json(value) for key, value in settings.items()},
        goals={
            key: {
                "direction": goal.direction.value,
                "unit": goal.unit,
                "bound": goal.bound,
                "aggregate": goal.aggregate,
            }
            for key, goal in beginning.goals.items()
        },
    )


def _watch_surroundings(run: Run, output: bool | None, left_out: frozenset[str], above: str | None) -> None:
    """Keep what the run prints and draws, and what its machine does, as far as nothing of it is left out."""
    run._looking = Looking(run._recorder, left_out)
    if output is not False and ("output" not in left_out or output):
        standard_streams.catch(run.id, run._recorder, asked=bool(output), parent=above)
    if run._cell is not None and "figures" not in left_out:
        from kinetrum.client.capture.figures.notebooks import keep_figures

        keep_figures(run)


def _end_runs_of_this_cell() -> None:
    """End the runs that an earlier execution of the same cell began, whether or not the notebook displayed them."""
    cell = current_cell()
    if cell is None:
        return
    for run in exit_hooks.open_runs():
        if isinstance(run, Run) and run._cell is not None and cell.is_rerun_of(run._cell):
            run.end("stopped", "the cell that began it was run again")
    exit_hooks.watch_cells(current_shell())


def _tell_of_open_runs() -> None:
    """Say once what happens to a run that is open while another begins: often it was meant to be over."""
    first = next(iter(exit_hooks.open_runs()), None)
    if first is not None and not was_said(_STILL_OPEN):
        say_once(f"{first!r} {_STILL_OPEN}")


def _tracked_run() -> str | None:
    """Return the run that this process is a part of."""
    run = os.environ.get("KINETRUM_RUN", "")
    return run if is_id(run) else None


def attach(ref: str, *, experiment: str | None = None, project: str | None = None, url: str | None = None) -> Run:
    """Join a run that another process began, to write to it as well; every measure needs a step.

    `ref` is the run's whole id (with `experiment=`, nothing waits for the service), or any reference to it such
    as `frost-alarm/42`, which the service resolves. This process does not end the run unless told.
    Raises NotFound for a reference that names no run, Unavailable where it cannot be resolved.
    `project` and `url` say where; without them the environment's connection does, or the one that `kinetrum
    connect` saved.
    """
    address, known = _address_of(ref, experiment, project, url)
    run = Run(address, {}, attached=True)
    run._known = known
    start_sender(current_writer().root)
    return run


def resume(ref: str, *, experiment: str | None = None, project: str | None = None, url: str | None = None) -> Run:
    """Take a run up again that ended or was lost: it is running from now on, and ends with this process.

    Every measure needs a step. What was recorded before stays. `ref` is as in `attach`.
    `experiment` is that of a whole id: then nothing waits for the service.
    `project` and `url` say where; without them the environment's
    connection does, or the one that `kinetrum connect` saved.
    """
    address, known = _address_of(ref, experiment, project, url)
    run = Run(address, {}, resumed=True)
    run._known = known
    run._recorder.write("resume", at=current_writer().now())
    exit_hooks.watch(run)
    start_sender(current_writer().root)
    return run


def _address(connection: Connection, run_id: str) -> dict[str, str]:
    check_name(connection.project, "project")
    check_name(connection.experiment, "experiment")
    root, destination = current_writer().root, destination_of(connection)
    if connection.url is None:
        say_once(f"{destination.why_nowhere()} What is recorded waits in {root}.")
    if not has_home() and str(root).startswith(str(home_folder())):
        say_once(f"This user has no home folder; what is recorded, and what is kept of it, lies in {home_folder()}.")
    name = keep_destination(root, destination)
    if obstruction_of(root, name) is not None:
        # What stood in the way may be gone, or be different for this process.
        ask_again(root)
    return {
        "run": run_id,
        "to": name,
        "project": connection.project,
        "experiment": connection.experiment,
    }


def _address_of(
    ref: str, experiment: str | None, project: str | None, url: str | None
) -> tuple[dict[str, str], tuple[int, str, str | None] | None]:
    """Return where a run's records go, and its number, reference and name where the service was asked."""
    if len(ref) == 36 and experiment is not None:
        id_bytes(ref, "ref")
        return _address(find_connection(url, project, experiment, needs_service=False), ref), None
    from kinetrum.client.reading.recorded_run import find_run
    from kinetrum.client.transport.session import open_session

    parsed = parse_ref(ref)
    if not isinstance(parsed, RunRef):
        raise InvalidInput(f"{ref!r} names no run; write EXPERIMENT/NUMBER or an id.", field="ref")
    run = find_run(open_session(parsed.project or project, url), parsed)
    # The reference may still tell the name that the experiment had before.
    if experiment is not None and experiment not in {run.experiment, parsed.experiment}:
        raise NotFound(f"{ref} is a run of {run.experiment}, not of {experiment}.", field="ref")
    address = _address(find_connection(url, run.project, run.experiment), run.id)
    return address, (run.number, run.reference, run.name)


def _parent_id(parent: Run | str | None) -> str | None:
    if parent is None:
        return None
    uid = parent.id if isinstance(parent, Run) else parent
    id_bytes(uid, "parent")
    return uid
