"""The lineage over HTTP: what each thing came from and what came of it, folded, bounded, and as W3C PROV."""

from __future__ import annotations

import json
from typing import Any

import httpx
import pytest
from prov.model import ProvDocument

from tests.service.data.test_files_api import keep, sha
from tests.support.world import Project, new_id


def use(project: Project, begun: dict[str, Any], ref: str, **fields: Any) -> None:
    body = {"id": new_id(), "at": 2, "artifact": ref, **fields}
    project.service("contributor").call("POST", project.run_path(begun, "used"), json=body)


def generate(project: Project, begun: dict[str, Any], name: str, content: bytes, **fields: Any) -> str:
    files = [project.upload(content)]
    body = {"id": new_id(), "at": 3, "name": name, "kind": "data", "files": files, **fields}
    made = project.service("contributor").call("POST", project.run_path(begun, "generated"), json=body)
    return str(made["reference"])


def story(project: Project) -> dict[str, str]:
    """Raw readings, made into nights by one run, on which two others trained; one model is registered."""
    keep(project, "readings", {"2024/a.csv": b"raw a", "2024/b.csv": b"raw b"})
    making, first, second = project.begin("night-tables"), project.begin(), project.begin()
    use(project, making, "readings@1", role="raw", activity="reading")
    nights = generate(project, making, "nights", b"nights of " + project.name.encode(), activity="writing")
    for begun in (first, second):
        use(project, begun, nights, role="train")
    net = generate(project, first, "net", b"net of " + project.name.encode(), step=3)
    body = {"id": new_id(), "artifact": net, "run": first["reference"], "comment": ""}
    project.service("contributor").call("POST", project.path("models", "frost-alarm", "versions"), json=body)
    return {"making": making["reference"], "first": first["reference"], "second": second["reference"]}


def steps(found: dict[str, Any]) -> dict[str, int]:
    return {node["reference"]: node["steps"] for node in found["nodes"]}


def test_an_artifact_leads_back_to_raw_files_and_forward_to_all_made_of_it(project: Project, raw: httpx.Client) -> None:
    named = story(project)
    path = project.path("lineage")
    found = raw.get(path, params={"of": "nights@1"}).json()
    assert steps(found) == {
        "readings@1": -2,
        named["making"]: -1,
        "nights@1": 0,
        named["first"]: 1,
        named["second"]: 1,
        "net@1": 2,
        "frost-alarm@1": 3,
    }
    assert (found["start"], found["count"], found["cut"]) == ("artifact:nights@1", 7, False)
    edges = {(edge["source"], edge["target"]): edge for edge in found["edges"]}
    reading = edges["artifact:readings@1", f"run:{named['making']}"]
    assert (reading["relation"], reading["role"], reading["activity"]) == ("used", "raw", "reading")
    writing = edges[f"run:{named['making']}", "artifact:nights@1"]
    assert (writing["relation"], writing["activity"]) == ("generated", "writing")
    assert edges[f"run:{named['first']}", "artifact:net@1"]["step"] == 3
    assert edges["artifact:net@1", "model:frost-alarm@1"]["relation"] == "registered"
    back = raw.get(path, params={"of": "nights@1", "way": "back"}).json()
    forth = raw.get(path, params={"of": "nights@1", "way": "forth"}).json()
    assert steps(back) == {ref: at for ref, at in steps(found).items() if at <= 0}
    assert steps(forth) == {ref: at for ref, at in steps(found).items() if at >= 0}


def test_every_kind_of_thing_has_a_lineage(project: Project, raw: httpx.Client) -> None:
    named = story(project)
    path = project.path("lineage")
    run = raw.get(path, params={"of": named["first"]}).json()
    # What another run made of the same data is no ancestor and no descendant.
    assert named["second"] not in steps(run)
    assert steps(run)["readings@1"] == -3
    model = raw.get(path, params={"of": "frost-alarm@1"}).json()
    assert steps(model)["readings@1"] == -5
    assert model["start"] == "model:frost-alarm@1"
    file = raw.get(path, params={"of": "readings@1:2024/a.csv"}).json()
    assert (file["start"], steps(file)["net@1"]) == ("file:readings@1:2024/a.csv", 4)
    digest = raw.get(path, params={"of": f"sha256:{sha(b'raw a')}"}).json()
    assert steps(digest)["net@1"] == 4
    whole = raw.get(project.path("artifacts", "readings", "versions", "1")).json()["digest"]
    assert raw.get(path, params={"of": f"sha256:{whole}"}).json()["start"] == "artifact:readings@1"
    told = raw.get(path, params={"of": "nights@1", "way": "back"}).json()["sentence"]
    assert told == "nights@1 came from 1 version and 1 run."
    told = raw.get(path, params={"of": "nights@1", "way": "forth"}).json()["sentence"]
    assert told == "nights@1 led to 1 version, 2 runs and 1 model version."


@pytest.mark.parametrize(
    ("of", "status"),
    [
        ("nights@9", 404),
        ("nobody@1", 404),
        ("frost-alarm/99", 404),
        ("readings@1:none.csv", 404),
        ("sha256:zz", 422),
        (f"sha256:{'a' * 64}", 404),
        ("frost-alarm/1:loss", 422),
        ("", 422),
    ],
)
def test_what_has_none_is_told(project: Project, raw: httpx.Client, of: str, status: int) -> None:
    story(project)
    answer = raw.get(project.path("lineage"), params={"of": of})
    assert (answer.status_code, bool(answer.json()["detail"])) == (status, True), answer.text


def test_what_is_alike_is_folded_and_what_is_too_much_is_cut(project: Project, raw: httpx.Client) -> None:
    keep(project, "nights", {"a.csv": b"1"})
    begun = [project.begin() for _ in range(30)]
    for run in begun:
        use(project, run, "nights@1", role="train")
    path = project.path("lineage")
    folded = raw.get(path, params={"of": "nights@1", "fold_to": 10}).json()
    group = next(node for node in folded["nodes"] if node["kind"] == "group")
    assert (len(folded["nodes"]), len(group["members"]), folded["count"]) == (2, 30, 31)
    assert set(group["members"]) == {run["reference"] for run in begun}
    whole = raw.get(path, params={"of": "nights@1", "fold_to": 60}).json()
    assert (len(whole["nodes"]), whole["cut"]) == (31, False)
    chain = "nights@1"
    for at in range(6):
        run = project.begin("chain")
        use(project, run, chain)
        chain = generate(project, run, f"made-{at}", f"{project.name}{at}".encode())
    cut = raw.get(path, params={"of": chain, "limit": 5}).json()
    assert (cut["cut"], cut["count"] < 13, "came from at least" in cut["sentence"]) == (True, True, True)
    assert raw.get(path, params={"of": chain}).json()["count"] == 13


def test_content_under_two_names_is_one_data(project: Project, raw: httpx.Client) -> None:
    """Asked by what it is, data has the users of every name it bears."""
    for name in ("nights", "copy"):
        keep(project, name, {"a.csv": b"the same"})
    runs = {name: project.begin() for name in ("nights", "copy")}
    for name, begun in runs.items():
        use(project, begun, f"{name}@1")
    whole = raw.get(project.path("artifacts", "copy", "versions", "1")).json()["digest"]
    found = raw.get(project.path("lineage"), params={"of": f"sha256:{whole}"}).json()
    assert {ref for ref, at in steps(found).items() if at == 1} == {begun["reference"] for begun in runs.values()}


def test_prov_says_the_same_and_refers_to_nothing_that_is_not_in_it(project: Project, raw: httpx.Client) -> None:
    named = story(project)
    answer = raw.get(project.path("lineage", "prov"), params={"of": "nights@1"})
    assert "lineage.prov.json" in answer.headers["Content-Disposition"]
    document = ProvDocument.deserialize(content=answer.text, format="json")
    told = document.get_provn()
    for word in ("wasGeneratedBy", "used", "wasAssociatedWith", "wasAttributedTo"):
        assert word in told, word
    assert {kind: len(answer.json()[kind]) for kind in ("entity", "agent")}["entity"] == 4
    assert len(answer.json()["activity"]) >= 3
    assert named["first"] in json.dumps(answer.json())
    again = json.loads(document.serialize(format="json") or "")
    pairs = [
        {(use["prov:activity"], use["prov:entity"]) for use in found["used"].values()}
        for found in (again, answer.json())
    ]
    assert pairs[0] == pairs[1]
    assert len(pairs[0]) == 3


def test_strangers_see_no_lineage(project: Project) -> None:
    from kinetrum.core.base import errors

    story(project)
    with pytest.raises(errors.NotFound):
        project.instance.service(project.tokens["stranger"]).get(project.path("lineage"), of="nights@1")
