"""Fill an instance with the demo: people, data, trained runs, the registry's story. Repeating it does no harm."""

from __future__ import annotations

import os
import secrets
import tempfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, redirect_stdout, suppress
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

import httpx
from tqdm import tqdm

import kinetrum
from kinetrum.client.recording.run import Run
from kinetrum.client.transport.http import Service, path_of
from kinetrum.core.base.errors import Conflict, KinetrumError, NotFound
from kinetrum.core.base.ids import id_bytes
from kinetrum.core.text.run_names import generate_run_name
from kinetrum.demo import mishaps, outside, readings, scenario, training
from kinetrum.demo.scenario import DATA, ELSEWHERE, MACHINE, MOVED, PEOPLE, PROJECT, THIRD
from kinetrum.demo.training import Plan
from kinetrum.demo.weather import Nights, make_nights, read_nights, write_nights, write_stations
from kinetrum.instance.settings import Home, write_private

CUT_OFF_AFTER = 6


# The demo does with their tokens what the people do in consoles.
_EVERY_SCOPE = ["read", "record", "register", "review", "place", "report", "administer"]


@dataclass
class Demo:
    """The demo on one instance: address, the administrator's token, a folder for data and people's tokens."""

    url: str
    service: Service
    folder: Path
    tokens: dict[str, str]
    store_url: str
    store_folder: Path

    @contextmanager
    def as_person(self, name: str) -> Iterator[None]:
        """Act as one of the people: the same environment variables that anyone would set."""
        settings = {
            "KINETRUM_URL": self.url,
            "KINETRUM_TOKEN": self.tokens[name],
            "KINETRUM_PROJECT": PROJECT,
        }
        before = {key: os.environ.get(key) for key in settings}
        os.environ.update(settings)
        try:
            yield
        finally:
            for key, value in before.items():
                if value is None:
                    os.environ.pop(key, None)
                else:
                    os.environ[key] = value


def prepare(home: Home, url: str, store_url: str) -> Demo:
    """Make project, people, tokens and data files; what is there stays. `store_url` is the object store's address."""
    folder = home.folder / "demo"
    folder.mkdir(mode=0o700, exist_ok=True)
    service = Service(url, home.token.read_text().strip())
    _ignore_conflict(service, "POST", "/projects", {"name": PROJECT, "description": "Frost forecasts for Kestrel Fold"})
    lines, tokens = [], {}
    for name, full_name, role in PEOPLE:
        token_file = folder / f"token-{name}"
        if not token_file.exists():
            password = secrets.token_urlsafe(12)
            body = {"name": name, "full_name": full_name, "password": password}
            if not _ignore_conflict(service, "POST", "/people", body):
                service.call("PUT", path_of("people", name, "password"), json={"password": password})
            service.call("PUT", path_of("projects", PROJECT, "members", name), json={"role": role})
            made = service.call("POST", "/tokens", json={"name": "demo", "person": name, "scopes": _EVERY_SCOPE})
            write_private(folder / f"password-{name}", password)
            write_private(token_file, made["secret"])
        tokens[name] = token_file.read_text()
        lines.append(f"{name:8} {(folder / f'password-{name}').read_text():20} {full_name}, {role} in {PROJECT}")
    write_private(home.folder / "demo-people.txt", "\n".join(lines) + "\n")
    for data, (years, faulty) in DATA.items():
        if not (folder / data).exists():
            write_nights(make_nights(years, faulty), folder / data)
    if not (folder / MOVED).exists():
        readings.write_moved(folder / THIRD, folder / MOVED)
    write_stations(folder / "stations.csv")
    tokens[MACHINE] = _machine_token(service, folder / f"token-{MACHINE}")
    # Root, the first account, is nobody of the team and has a token of its own.
    tokens["root"] = home.token.read_text().strip()
    return Demo(url, service, folder, tokens, store_url, home.folder / "object-store")


def _machine_token(service: Service, file: Path) -> str:
    """Return the secret of the project's machine, which reads and records and has no person; made once."""
    if not file.exists():
        with suppress(NotFound):
            service.call("DELETE", path_of("projects", PROJECT, "tokens", MACHINE))
        body = {"name": MACHINE, "scopes": ["read", "record"], "days": None}
        write_private(file, service.call("POST", path_of("projects", PROJECT, "tokens"), json=body)["secret"])
    return file.read_text()


def sign_somebody_in_elsewhere(demo: Demo) -> None:
    """Let the fifth of the team sign in at the provider, where there is one: uninvited, with her group's role."""
    for group in ELSEWHERE["groups"]:
        demo.service.call("PUT", path_of("projects", PROJECT, "groups", group), json={"role": "viewer"})
    with httpx.Client(base_url=demo.url) as browser:
        out = browser.get("/api/v1/sign-in/elsewhere")
        if out.is_redirect:
            back = httpx.get(f"{out.headers['location']}&as={ELSEWHERE['sub']}")
            browser.get(back.headers["location"])


def bring_earlier_weeks(demo: Demo) -> None:
    """Take in what the team tried weeks ago, in another place; it comes as an archive, with its times."""
    archive = resources.files("kinetrum.demo").joinpath("earlier-weeks.zip")
    with resources.as_file(archive) as path, demo.as_person("root"):
        # The administrator knows that the people of that place are the same: the archive alone could not say so.
        kinetrum.import_(path, same_people=True)


def _ignore_conflict(service: Service, method: str, path: str, body: dict[str, str]) -> bool:
    try:
        service.call(method, path, json=body)
    except Conflict:
        return False
    return True


def _recorded(experiment: str) -> Counter[str]:
    try:
        runs = kinetrum.runs(experiment=experiment, project=PROJECT)
        return Counter(_key(run.params, _given_name(run.id, run.name)) for run in runs)
    except NotFound:
        return Counter()


def _given_name(run: str, name: str | None) -> str | None:
    """Return the name that a run was begun with; None where the service generated the one that it has."""
    return None if name == generate_run_name(id_bytes(run)) else name


def _key(params: Mapping[str, object], name: str | None) -> str:
    return f"{name or ''} {sorted((key, str(value)) for key, value in params.items())}"


def seed(demo: Demo) -> None:
    """Train and record what is missing, with a progress bar."""
    nights = {data: read_nights(demo.folder / data) for data in DATA}
    jobs = _jobs()
    with demo.as_person("ilse"):
        there = {name: _recorded(name) for name in ("frost-alarm", "dawn-minimum", "gap-filling")}
    missing = []
    for experiment, train, plan, group in jobs:
        key = _key({**plan.params, "seed": plan.seed}, plan.name or None)
        if there[experiment][key] > 0:
            there[experiment][key] -= 1
        else:
            missing.append((train, plan, group))
    # The bar goes past what the runs catch, and their prints to nobody but them.
    with os.fdopen(os.dup(2), "w") as bar_file, open(os.devnull, "w") as nobody, redirect_stdout(nobody):
        bar = tqdm(missing, desc="Training the demo runs", unit="run", disable=not missing, file=bar_file)
        _train_all(demo, nights, bar, missing)
    _have_mishap(demo, mishaps.CUT_OFF, lambda: mishaps.lose_one(demo.folder))
    _have_mishap(demo, mishaps.TWO_MINDS, lambda: mishaps.disagree(nights[mishaps.TWO_MINDS.data]))
    outside.track(demo)
    readings.make_table(demo, MOVED)
    _deliver()
    _write_notes(demo)


_Training = tuple[Callable[..., None], Plan, str | None]


def _train_all(demo: Demo, nights: dict[str, Nights], bar: Iterable[_Training], trainings: list[_Training]) -> None:
    parents: dict[str, Run] = {}
    last_of_group = {group: at for at, (_, _, group) in enumerate(trainings) if group}
    for at, (train, plan, group) in enumerate(bar):
        readings.make_table(demo, plan.data)
        if at == CUT_OFF_AFTER:
            _have_mishap(demo, mishaps.CUT_OFF, lambda: mishaps.lose_one(demo.folder))
        with demo.as_person(plan.person):
            parent = None
            if group:
                parent = parents.get(group) or kinetrum.begin(
                    "frost-alarm",
                    name=group,
                    goals=training.FROST_GOALS,
                    params=scenario.SEARCH_SPACE,
                    output=False,
                )
                parents[group] = parent
            try:
                if parent is not None:
                    train(plan, demo.folder, nights[plan.data], parent)
                else:
                    train(plan, demo.folder, nights[plan.data])
            except MemoryError:
                pass
        if group and at == last_of_group[group]:
            parents.pop(group).end()


def _have_mishap(demo: Demo, plan: Plan, happen: Callable[[], None]) -> None:
    """Let something go wrong once."""
    with demo.as_person(plan.person):
        try:
            run = kinetrum.runs(f'name = "{plan.name}"', experiment="frost-alarm")
        except NotFound:
            run = None
        if not run:
            happen()


def _write_notes(demo: Demo) -> None:
    """What people said of runs; once."""
    for name, (person, text) in scenario.NOTES.items():
        with demo.as_person(person):
            matching = [run for run in kinetrum.runs(experiment="frost-alarm") if run.name == name]
            if matching and not matching[-1].notes:
                matching[-1].note(text)


def _deliver() -> None:
    from kinetrum.client.spool.draining import drain
    from kinetrum.places import spool_folder

    drain(spool_folder(), 120)


def _jobs() -> list[tuple[str, Callable[..., None], Plan, str | None]]:
    """List the runs in the order in which the data came: a season added, then a station corrected."""
    frost, dawn = training.train_frost_alarm, training.train_dawn_minimum
    plans = [
        *scenario.BASELINE,
        *scenario.FORESTS,
        *scenario.REPLICATES,
        *scenario.SINGLE[:1],
        *scenario.BETTER,
        *scenario.SINGLE[1:],
    ]
    jobs: list[tuple[str, Callable[..., None], Plan, str | None]] = [
        ("frost-alarm", frost, plan, None) for plan in plans
    ]
    jobs += [("frost-alarm", frost, plan, "search") for plan in scenario.SEARCH]
    jobs += [("dawn-minimum", dawn, plan, None) for plan in scenario.DAWN]
    jobs += [("gap-filling", training.fill_gaps, plan, None) for plan in scenario.GAPS]
    order = list(DATA)
    return sorted(jobs, key=lambda job: order.index(job[2].data))


def tell_the_registry(demo: Demo) -> None:
    """Register, review and promote as the orchard's people did; only on a registry that has none of it.

    The gates came after version 4, which was within noise, had been let through and was found wanting.
    """
    with demo.as_person("ilse"):
        if kinetrum.models():
            return
        frost = list(kinetrum.runs(experiment="frost-alarm", sort="started:asc"))
        dawn = list(kinetrum.runs(experiment="dawn-minimum", sort="started:asc"))
    made = [run for run in frost if run.generated and run.params["learner"] != "forest"]
    forest = next(run for run in frost if run.generated and run.params["learner"] == "forest")
    baseline, earlier, deeper, later = made[0], made[1], made[2], made[3]
    _register(demo, "ilse", baseline, "frost-net", "frost-alarm", "the baseline, to have something to ring the bell")
    _review(demo, "noor", "frost-alarm@1", True, "Few alarms in vain. It misses every third frost.")
    _promote(demo, "ilse", "frost-alarm@1", "staging", "")
    _promote(demo, "wren", "frost-alarm@1", "production", "first one in use")
    _register(demo, "tomas", forest, "frost-net", "frost-alarm", "forest, depth 8")
    _review(demo, "noor", "frost-alarm@2", False, "The pumps ran in vain too often on the upper rows.")
    _register(demo, "ilse", earlier, "frost-net", "frost-alarm", "boosted, mean of five seeds")
    _promote(demo, "ilse", "frost-alarm@3", "development", "")
    _review(demo, "noor", "frost-alarm@3", True, "More frosts caught at the same calls.")
    _promote(demo, "ilse", "frost-alarm@3", "staging", "")
    _promote(demo, "wren", "frost-alarm@3", "production", "")
    _register(demo, "ilse", deeper, "frost-net", "frost-alarm", "deeper trees, one seed")
    _review(demo, "noor", "frost-alarm@4", True, "Go and see.")
    _promote(demo, "ilse", "frost-alarm@4", "staging", "")
    _promote(demo, "wren", "frost-alarm@4", "production", "")
    with demo.as_person("wren"):
        kinetrum.model("frost-alarm").roll_back("production", comment="Four starts for nothing in one night.")
    _rule(demo)
    _register(demo, "ilse", later, "frost-net", "frost-alarm", "shallow trees on corrected data, five seeds")
    _promote(demo, "ilse", "frost-alarm@5", "development", "")
    regressors = [run for run in dawn if any(ref.startswith("dawn-net@") for ref in run.generated)]
    _register(demo, "ilse", regressors[0], "dawn-net", "dawn-minimum", "ridge on evening readings")
    _review(demo, "noor", "dawn-minimum@1", True, "Good enough to plan the shift.")
    _promote(demo, "wren", "dawn-minimum@1", "production", "")
    _register(demo, "tomas", regressors[1], "dawn-net", "dawn-minimum", "boosted, depth 3")
    with demo.as_person("wren"), tempfile.TemporaryDirectory() as folder:
        kinetrum.model("dawn-minimum").describe(purpose="How cold will it be at dawn?", owner="tomas")
        # The deployment asks for what stands on production, never for a path.
        kinetrum.fetch("frost-alarm@production", Path(folder) / "pumps")
        kinetrum.fetch("frost-alarm@lead", Path(folder) / "bells")
    for person, ref, text in scenario.REGISTRY_NOTES:
        with demo.as_person(person):
            thing = kinetrum.model(ref.removeprefix("model:")) if ref.startswith("model:") else _version(ref)
            thing.note(text)


def _rule(demo: Demo) -> None:
    with demo.as_person("wren"):
        alarm = kinetrum.model("frost-alarm")
        alarm.describe(
            purpose="Will it freeze at dawn? Rings the night watch before it does.",
            owner="ilse",
            labels={"season": "blossom", "site": "slope"},
        )
        alarm.rule(card_sections=["Purpose", "Limits"])
        alarm.set_gates(scenario.GATES)
    with demo.as_person("ilse"):
        alarm = kinetrum.model("frost-alarm")
        alarm.card = scenario.CARD


def _register(demo: Demo, person: str, run: kinetrum.RecordedRun, artifact: str, model: str, comment: str) -> None:
    with demo.as_person(person):
        kinetrum.register(artifact, run=run.reference, as_model=model, comment=comment)


def _version(ref: str) -> kinetrum.ModelVersion:
    version = kinetrum.open(ref)
    if not isinstance(version, kinetrum.ModelVersion):
        raise KinetrumError(f"{ref} names no model version.")
    return version


def _review(demo: Demo, person: str, ref: str, approves: bool, comment: str) -> None:
    with demo.as_person(person):
        version = _version(ref)
        if approves:
            version.approve(comment)
        else:
            version.reject(comment)


def _promote(demo: Demo, person: str, ref: str, stage: str, comment: str) -> None:
    with demo.as_person(person):
        _version(ref).promote(stage, comment=comment)
