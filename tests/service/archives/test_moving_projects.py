"""Whole projects between instances: the registry comes along, repeats tell what differs, and nobody speaks for others."""

from __future__ import annotations

import copy
import io
import json
import zipfile
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest

import kinetrum
from kinetrum.cli.main import main
from kinetrum.client.transport.http import Service
from kinetrum.core.archives.project import PROJECT
from kinetrum.core.base import errors
from kinetrum.instance import control
from kinetrum.instance.settings import Home
from tests.client.registry.test_registry import acting, ruled, trained, version
from tests.service.archives.test_crates import fresh, take_in
from tests.support.world import ALL_SCOPES, Project, new_id

__all__ = ["acting"]
As = Callable[[str], None]
url_elsewhere: list[str] = []


@pytest.fixture(scope="module")
def elsewhere(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """Another instance, where people of other names work, and one of a name that the first has too."""
    home = Home(tmp_path_factory.mktemp("elsewhere"))
    url_elsewhere.append(control.up(home, 0)["url"])
    service = Service(url_elsewhere[-1], home.token.read_text().strip())
    for name in ("carla", "mona", "a-approver"):
        service.call("POST", "/people", json={"name": name, "full_name": name.title(), "password": "a long password"})
    yield service
    service.close()
    control.down(home)


def token_of(service: Service, place: str, name: str, role: str) -> Service:
    service.call("PUT", f"{place}/members/{name}", json={"role": role})
    made = service.call("POST", "/tokens", json={"name": f"t-{new_id()[-8:]}", "person": name, "scopes": ALL_SCOPES})
    return Service(url_elsewhere[-1], made["secret"])


def whole(project: Project) -> bytes:
    with project.service().stream(project.path("archive"), {}) as answer:
        return answer.read()


@pytest.fixture
def story(acting: As, recording: Project, tmp_path: Path) -> Project:
    """A model with two versions, one of them on production, and everything else that a project has."""
    first = trained(tmp_path, 0.90, 1).register("frost-net", as_model="frost-alarm", comment="first", labels={"a": "b"})
    model = ruled(acting)
    model.describe(purpose="Rings before frost", labels={"crop": "apple"})
    model.rule(card_sections=["Purpose"])
    acting("approver")
    version(first.reference).approve("sound")
    version(first.reference).promote("production", comment="for the spring")
    acting("contributor")
    second = trained(tmp_path, 0.95, 2).register("frost-net", as_model="frost-alarm", comment="second")
    acting("approver")
    version(second.reference).reject("too eager")
    acting("maintainer")
    service = recording.service("maintainer")
    for reference, text in (
        (f"project:{recording.name}", "of the project"),
        ("experiment:frost-alarm", "of the experiment"),
        ("artifact:frost-net", "of the artifact"),
        ("frost-net@1", "of its version"),
        ("model:frost-alarm", "of the model"),
        ("frost-alarm@1", "of version 1"),
        ("frost-alarm/1", "of the run"),
    ):
        service.call("POST", recording.path("notes"), json={"things": [reference], "text": text, "id": new_id()})
    view = {
        "experiment": "frost-alarm",
        "name": "best first",
        "shared": True,
        "arrangement": {"sort": "holdout/recall"},
    }
    service.call("PUT", recording.path("views", new_id()), json=view)
    body = {"description": "All about frost", "labels": {"crop": "apple"}}
    service.call("PATCH", recording.path("experiments", "frost-alarm"), json=body)
    return recording


def story_of(service: Service, place: str) -> dict[str, Any]:
    """What of a project is the same wherever it is."""
    model = service.get(f"{place}/models/frost-alarm")
    version_keys = ("reference", "run", "comment", "labels", "registered_at", "retired", "stages", "values", "step")
    event_keys = ("act", "stage", "before", "after", "comment", "at", "checks", "override_reason")
    details = [service.get(f"{place}/models/frost-alarm/versions/{number}") for number in (1, 2)]
    experiment = service.get(f"{place}/experiments/frost-alarm")
    return {
        **{
            key: model[key]
            for key in (
                "purpose",
                "labels",
                "card",
                "card_sections",
                "gates",
                "approvals_needed",
                "second_pair",
                "renewed_approvals",
                "evidence_rules",
                "created_at",
            )
        },
        "stages": [(stage["name"], stage["occupant"], stage["asks_approved"]) for stage in model["stages"]],
        "versions": [{key: one[key] for key in version_keys} for one in model["versions"]],
        "files": [one["artifact"]["reference"] + one["artifact"]["digest"] for one in model["versions"]],
        "events": [{key: event[key] for key in event_keys} for event in model["events"]],
        "evidence": [
            [
                (one["id"], one["on"], one["digest"], one["run"], one["rows"], one["results"], one["at"])
                for one in detail["evidence"]
            ]
            for detail in details
        ],
        "experiment": (experiment["description"], experiment["labels"], experiment["seeds"]),
        "views": [(view["name"], view["experiment"], view["arrangement"]) for view in service.get(f"{place}/views")],
        "runs": service.get(f"{place}/experiments/frost-alarm/runs")["count"],
    }


def notes_of(service: Service, place: str, reference: str) -> list[tuple[str, str, str | None]]:
    found = service.get(f"{place}/notes", of=reference)
    return [(note["author"], note["text"], note["imported_from"]) for note in found]


def test_a_project_comes_back_the_same_and_repeats_bring_nothing(story: Project, elsewhere: Service) -> None:
    raw = whole(story)
    place = fresh(elsewhere)
    done = take_in(elsewhere, place, raw)
    here, there = story_of(story.service(), story.path()), story_of(elsewhere, place)
    assert json.dumps(here, sort_keys=True) == json.dumps(there, sort_keys=True)
    assert there["stages"][-1] == ("production", 1, True)
    assert done["models"] == {"frost-alarm@1": "frost-alarm@1", "frost-alarm@2": "frost-alarm@2"}
    assert done["views"] == ["best first"]
    assert [text for text in done["remarks"] if "Approvals do not travel: frost-alarm@1 was" in text]
    again = take_in(elsewhere, place, raw)
    assert (again["runs"], again["versions"], again["models"], again["views"]) == ({}, {}, {}, [])
    assert len(again["known"]) == len(done["runs"]) + len(done["versions"]) + 2 + 1
    assert again["remarks"] == []
    assert json.dumps(story_of(elsewhere, place), sort_keys=True) == json.dumps(there, sort_keys=True)


def test_nobody_is_spoken_for(story: Project, elsewhere: Service) -> None:
    """What an archive says of people stays a word: also where an account has the same name."""
    place = fresh(elsewhere)
    elsewhere.call("PUT", f"{place}/members/a-approver", json={"role": "approver"})
    take_in(elsewhere, place, whole(story))
    one = elsewhere.get(f"{place}/models/frost-alarm/versions/1")
    assert (one["review"], one["verdicts"], one["registered_by"]) == ("pending", [], "Root")
    assert [(said["said_by"], said["approves"], said["comment"]) for said in one["imported_verdicts"]] == [
        ("A Approver", True, "sound")
    ]
    assert one["imported_from"].endswith("(by A Contributor)")
    assert one["evidence"][0]["person"] == "Root"
    two = elsewhere.get(f"{place}/models/frost-alarm/versions/2")
    assert (two["review"], [said["approves"] for said in two["imported_verdicts"]]) == ("pending", [False])
    (event,) = elsewhere.get(f"{place}/models/frost-alarm")["events"]
    assert (event["person"], event["imported_from"][-15:]) == ("Root", "(by A Approver)")
    run = elsewhere.get(f"{place}/experiments/frost-alarm/runs/1")
    assert (run["author"], run["imported_from"].endswith("(frost-alarm/1, by A Contributor)")) == ("Root", True)
    name = place.rpartition("/")[2]
    for reference in (
        f"project:{name}",
        "experiment:frost-alarm",
        "artifact:frost-net",
        "frost-net@1",
        "model:frost-alarm",
        "frost-alarm@1",
        "frost-alarm/1",
    ):
        if not reference.startswith("project"):
            ((author, text, origin),) = notes_of(elsewhere, place, reference)
            assert text.startswith("of ")
            assert (author, (origin or "")[-17:]) == ("Root", "(by A Maintainer)")
    # What stands on a stage stays there and is fetched without a warning, until somebody here says otherwise.
    assert one["warning"] is None
    approver = token_of(elsewhere, place, "a-approver", "approver")
    approver.call("PUT", f"{place}/models/frost-alarm/versions/1/verdict", json={"verdict": "reject", "comment": "no"})
    assert "rejected" in elsewhere.get(f"{place}/models/frost-alarm/versions/1")["warning"]
    approver.close()


def test_the_same_people_are_an_administrators_word(story: Project, elsewhere: Service) -> None:
    raw = whole(story)
    place = fresh(elsewhere)
    maintainer = token_of(elsewhere, place, "mona", "maintainer")
    with pytest.raises(errors.NotAllowed, match="An administrator says that the people"):
        maintainer.call(
            "POST",
            f"{place}/imports",
            params={"same_people": True},
            content=raw,
            headers={"Content-Type": "application/zip"},
        )
    maintainer.close()
    assert elsewhere.get(f"{place}/experiments") == []
    elsewhere.call(
        "POST",
        f"{place}/imports",
        params={"same_people": True},
        content=raw,
        headers={"Content-Type": "application/zip"},
    )
    # Verdicts count for nothing even then.
    assert elsewhere.get(f"{place}/models/frost-alarm/versions/1")["review"] == "pending"


def test_models_take_a_maintainer(story: Project, elsewhere: Service) -> None:
    raw = whole(story)
    place = fresh(elsewhere)
    contributor = token_of(elsewhere, place, "carla", "contributor")
    done = take_in(contributor, place, raw)
    assert (len(done["runs"]), done["models"]) == (2, {})
    (told,) = [text for text in done["remarks"] if "Models" in text]
    assert told == (
        "Models come with rules and stages and were left out (frost-alarm). Carla is a contributor in "
        f"{place.rpartition('/')[2]}; to change a model's ladder, gates and rules takes a maintainer."
    )
    assert elsewhere.get(f"{place}/models") == {"models": [], "count": 0}
    contributor.close()
    maintainer = token_of(elsewhere, place, "mona", "maintainer")
    assert list(take_in(maintainer, place, raw)["models"]) == ["frost-alarm@1", "frost-alarm@2"]
    maintainer.close()


def test_what_is_here_stays_and_what_differs_is_told(
    story: Project, elsewhere: Service, acting: As, tmp_path: Path
) -> None:
    place = fresh(elsewhere)
    take_in(elsewhere, place, whole(story))
    elsewhere.call(
        "PATCH", f"{place}/experiments/frost-alarm", json={"description": "Ours", "labels": {"crop": "plum"}}
    )
    elsewhere.call("PUT", f"{place}/models/frost-alarm/card", json={"card": "Ours", "expect": 1})
    acting("contributor")
    third = trained(tmp_path, 0.99, 3).register("frost-net", as_model="frost-alarm", comment="third")
    acting("approver")
    version(third.reference).approve("best")
    version(third.reference).promote("production")
    acting("maintainer")
    kinetrum.model("frost-alarm").describe(labels={"crop": "pear"})
    done = take_in(elsewhere, place, whole(story))
    assert done["models"] == {"frost-alarm@3": "frost-alarm@3"}
    assert done["remarks"] == [
        "frost-alarm: description and labels differ there and stay as they are here.",
        "frost-alarm: card and labels differ there and stay as they are here.",
        "frost-alarm: on production stands version 3 there and version 1 here, which stays.",
    ]
    model = elsewhere.get(f"{place}/models/frost-alarm")
    assert (model["card"], model["labels"]) == ("Ours", {"crop": "apple"})
    assert [stage["occupant"] for stage in model["stages"]] == [None, None, 1]
    assert elsewhere.get(f"{place}/experiments/frost-alarm")["description"] == "Ours"


def changed(raw: bytes, change: Callable[[dict[str, Any]], None]) -> bytes:
    """Write the archive anew with something else said of the project."""
    made = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(raw)) as old, zipfile.ZipFile(made, "w") as new:
        for item in old.infolist():
            content = old.read(item)
            if item.filename == PROJECT:
                data = json.loads(content)
                change(data)
                content = json.dumps(data).encode()
            new.writestr(item.filename, content)
    return made.getvalue()


def model_of(data: dict[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = data["models"][0]
    return found


BAD: dict[str, tuple[Callable[[dict[str, Any]], Any], str]] = {
    "no models": (lambda data: data.pop("models"), "'models' is missing"),
    "a stage": (lambda data: model_of(data)["ladder"].clear(), "1 to 12 stages"),
    "a role": (lambda data: model_of(data)["ladder"][0].update(least_role="king"), "king"),
    "gates": (lambda data: model_of(data).update(gates="[moon]\napprovals = 1"), "moon"),
    "a version twice": (lambda data: model_of(data)["versions"].append(model_of(data)["versions"][0]), "listed twice"),
    "a model twice": (lambda data: data["models"].append(copy.deepcopy(model_of(data))), "listed twice"),
    "a stay of nobody": (lambda data: model_of(data)["stays"][0].update(number=9), "no version 9"),
    "a stay nowhere": (lambda data: model_of(data)["stays"][0].update(stage="moon"), "no stage 'moon'"),
    "an act": (lambda data: model_of(data)["events"][0].update(act="crown"), "'crown'"),
    "an outcome": (lambda data: model_of(data)["events"][0].update(checks=[{"kind": "x"}]), "'figures' is missing"),
    "figures": (lambda data: model_of(data)["events"][0]["checks"][0].update(figures={"a": "b"}), "not a figure"),
    "a kind of outcome": (lambda data: model_of(data)["events"][0]["checks"][0].update(kind="x"), "outcome has a kind"),
    "a number": (lambda data: model_of(data)["versions"][0].update(number=-1), "not a number"),
    "a signature": (lambda data: model_of(data)["versions"][0].update(signature={"inputs": 3}), "inputs is a list"),
    "a time": (lambda data: model_of(data)["verdicts"][0].update(at="now"), "not a time"),
    "a name": (lambda data: model_of(data).update(name="../x"), "cannot name a model"),
    "a note on nothing": (lambda data: data["notes"][0].update(kind="moon"), "'moon'"),
    "a view": (lambda data: data["views"][0].update(uid="x"), "id"),
    "a view's name": (lambda data: data["views"][0].update(name="a\x1b[2Jb"), "cannot name a view"),
    "a large view": (lambda data: data["views"][0].update(arrangement={"q": "x" * 8_000}), "over 8,000 characters"),
    "many views": (lambda data: data.update(views=data["views"] * 2_001), "It has 2,001 views"),
    "labels": (lambda data: data.update(labels=[1]), "another form"),
    "a list": (lambda data: model_of(data).update(evidence="all"), "A list is needed"),
}


made: list[bytes] = []


@pytest.fixture
def archive(request: pytest.FixtureRequest) -> bytes:
    """The archive of one story for all tests that change something in it."""
    if not made:
        made.append(whole(request.getfixturevalue("story")))
    return made[0]


@pytest.mark.parametrize("what", BAD)
def test_bad_archives_leave_nothing(archive: bytes, elsewhere: Service, what: str) -> None:
    change, told = BAD[what]
    place = fresh(elsewhere)
    with pytest.raises(errors.InvalidInput, match=r"archive cannot be read at [^:]*: (?!The archive)") as raised:
        take_in(elsewhere, place, changed(archive, change))
    assert told in str(raised.value)
    assert elsewhere.get(f"{place}/experiments") == []
    assert elsewhere.get(f"{place}/artifacts") == []


def test_a_name_that_is_an_artifact_here_and_a_version_that_lives_elsewhere(story: Project, elsewhere: Service) -> None:
    raw = whole(story)
    place, other = fresh(elsewhere), fresh(elsewhere)
    take_in(elsewhere, place, raw)
    with pytest.raises(errors.Conflict, match="is in another project of this instance"):
        take_in(elsewhere, other, raw)

    def rename(data: dict[str, Any]) -> None:
        model_of(data)["name"] = "frost-net"

    with pytest.raises(errors.Conflict, match="'frost-net' names an artifact"):
        take_in(elsewhere, place, changed(raw, rename))


def test_two_commands_move_everything(
    story: Project,
    elsewhere: Service,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    """As their user types them; a member sees and takes along no project but those that are the member's."""
    folder = tmp_path / "all"
    monkeypatch.delenv("KINETRUM_PROJECT")
    monkeypatch.setenv("KINETRUM_TOKEN", story.instance.token)
    assert main(["export", "--project", story.name, "-o", str(tmp_path / "one.zip")]) == 0
    assert main(["export", "-o", str(tmp_path / "none.zip")]) == 2
    assert main(["export", "--everything", "frost-alarm/1", "-o", str(folder)]) == 2
    assert main(["export", "--everything", "-o", str(tmp_path / "one.zip")]) == 2
    assert main(["export", "model:frost-alarm", "--project", story.name, "-o", str(tmp_path / "none.zip")]) == 2
    assert "give the project and no reference" in capsys.readouterr().err
    folder.mkdir()
    (tmp_path / "one.zip").rename(folder / f"{story.name}.zip")
    monkeypatch.setenv("KINETRUM_URL", url_elsewhere[-1])
    monkeypatch.setenv("KINETRUM_TOKEN", elsewhere._client.headers["Authorization"].split()[1])
    assert main(["import", str(folder), "--project", "x"]) == 2
    assert main(["import", str(tmp_path / "nothing")]) == 3
    capsys.readouterr()
    assert main(["import", str(folder)]) == 0
    said = capsys.readouterr().out
    assert said.startswith(f"{story.name}: 2 runs, 5 artifact versions, 2 model versions and 1 view imported from ")
    assert main(["import", str(folder), "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)[story.name]["known"]) == 10
    assert main(["export", "--everything", "-o", str(tmp_path / "back")]) == 0
    assert (tmp_path / "back" / f"{story.name}.zip").exists()


def test_an_empty_project_moves_too(project: Project, elsewhere: Service) -> None:
    place = fresh(elsewhere)
    done = take_in(elsewhere, place, whole(project))
    assert {key: done[key] for key in ("runs", "versions", "models", "views", "known", "remarks")} == {
        "runs": {},
        "versions": {},
        "models": {},
        "views": [],
        "known": [],
        "remarks": [],
    }


def test_an_outsider_exports_and_imports_nothing(project: Project, elsewhere: Service) -> None:
    stranger = project.service("stranger")
    with pytest.raises(errors.KinetrumError), stranger.stream(project.path("archive"), {}) as answer:
        answer.read()
    with pytest.raises(errors.NotAllowed):
        take_in(project.service("viewer"), project.path(), whole(project))


def test_two_imports_at_once_bring_it_once(story: Project, elsewhere: Service) -> None:
    raw = whole(story)
    place = fresh(elsewhere)
    with ThreadPoolExecutor(4) as pool:
        done = [job.result() for job in [pool.submit(take_in, elsewhere, place, raw) for _ in range(4)]]
    for part in ("versions", "models", "views"):
        brought = [name for found in done for name in found[part]]
        assert len(brought) == len(set(brought)), part
    assert sorted(name for found in done for name in found["models"]) == ["frost-alarm@1", "frost-alarm@2"]
    here, there = story_of(story.service(), story.path()), story_of(elsewhere, place)
    assert json.dumps(here, sort_keys=True) == json.dumps(there, sort_keys=True)


def test_what_was_renamed_on_either_side_comes_together(
    story: Project, elsewhere: Service, acting: As, tmp_path: Path
) -> None:
    place = fresh(elsewhere)
    take_in(elsewhere, place, whole(story))
    for name in ("bell", "gong"):
        elsewhere.call("PUT", f"{place}/experiments/frost-alarm/name", json={"name": name})
    elsewhere.call("PUT", f"{place}/models/frost-alarm/name", json={"name": "siren"})
    acting("contributor")
    trained(tmp_path, 0.99, 3).register("frost-net", as_model="frost-alarm", comment="third")
    done = take_in(elsewhere, place, whole(story))
    assert done["runs"] == {"frost-alarm/3": "gong/3"}
    assert done["models"] == {"frost-alarm@3": "siren@3"}
    assert "frost-alarm is gong here." in done["remarks"]
    assert [one["name"] for one in elsewhere.get(f"{place}/experiments")] == ["gong"]
    # Renamed there, it is found by the name that it had, and its earlier name leads to it where it is new.
    story.service("maintainer").call("PUT", story.path("experiments", "frost-alarm", "name"), json={"name": "horn"})
    raw = whole(story)
    assert take_in(elsewhere, place, raw)["runs"] == {}
    assert [one["name"] for one in elsewhere.get(f"{place}/experiments")] == ["gong"]


def test_earlier_names_and_settings_of_names_travel(recording: Project, elsewhere: Service) -> None:
    with kinetrum.begin("first") as run:
        pass
    run.flush()
    service = recording.service("maintainer")
    service.call("PATCH", recording.path("experiments", "first"), json={"generates_names": False})
    service.call("PUT", recording.path("experiments", "first", "name"), json={"name": "second"})
    place = fresh(elsewhere)
    take_in(elsewhere, place, whole(recording))
    found = elsewhere.get(f"{place}/experiments/first")
    assert (found["name"], found["earlier_names"], found["generates_names"]) == ("second", ["first"], False)


def test_models_in_the_bin_stay_where_they_are(recording: Project, elsewhere: Service) -> None:
    recording.registered(1)
    recording.registered(1, model="other")
    service, things = recording.service("maintainer"), {"things": ["model:other"], "children": False}
    raw = whole(recording)
    service.call("POST", recording.path("bin"), json=things)
    place = fresh(elsewhere)
    assert list(take_in(elsewhere, place, whole(recording))["models"]) == ["frost-alarm@1"]
    elsewhere.call("POST", f"{place}/bin", json={**things, "things": ["model:frost-alarm"]})
    done = take_in(elsewhere, place, raw)
    assert list(done["models"]) == ["other@1"]
    assert "frost-alarm is in the bin here; restore it to take in what it lacks." in done["remarks"]
