"""Finding over HTTP: groups and their spread, facets, what may stand in a query, pages, what a palette finds."""

from __future__ import annotations

import math
from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from tests.support.programs import wait_for
from tests.support.world import Project, new_id

AT = 1_790_000_000_000_000
PATH = ("experiments", "frost-alarm")


def add(project: Project, results: dict[str, Any], **fields: Any) -> dict[str, Any]:
    begun = project.begin(**fields)
    body = {"results": [{"id": new_id(), "key": key, "value": value, "at": AT} for key, value in results.items()]}
    project.service("contributor").call("POST", project.run_path(begun, "results"), json=body)
    return begun


@pytest.fixture
def table(project: Project) -> Project:
    goals = {"recall": {"direction": "higher"}, "fit_seconds": {"direction": "lower", "unit": "s"}}
    for seed, recall in enumerate((0.90, 0.92, 0.94)):
        add(
            project,
            {"recall": recall, "fit_seconds": 2.0},
            goals=goals,
            params={"learner": "forest", "depth": 5, "seed": seed},
            labels={"purpose": "candidate"},
        )
    for seed, recall in enumerate((0.80, {"float": "NaN"})):
        add(project, {"recall": recall, "fit_seconds": 1.0}, params={"learner": "boost", "depth": 6, "seed": seed})
    add(project, {"fit_seconds": 3.0}, name="odd one")
    return project


def test_runs_are_found_by_whether_their_code_is_clean(project: Project) -> None:
    service = project.service("contributor")
    for changed, script in ((0, None), (2, None), (0, "x = 1")):
        begun = project.begin()
        code = {"commit": "4f2a9c1d" * 5, "changed_files": changed, "untracked_files": 0, "hidden_lines": 0}
        service.call("PUT", project.run_path(begun, "surroundings"), json={"code": code, "script": script})
    project.begin()

    def found(query: str) -> list[int]:
        page = service.get(project.path(*PATH, "runs"), query=query, sort="number")
        return sorted(run["number"] for run in page["rows"])

    assert found("code = clean") == [1]
    assert found("code = changed") == found("code in {changed, unversioned}") == [2, 3]
    assert found("has code") == [1, 2, 3]
    assert found("not has code") == [4]
    with pytest.raises(
        errors.InvalidInput,
        match=r"Unknown state of the code 'clear'\. Choose one of: clean, changed, unversioned\. Nearest: clean",
    ):
        found("code = clear")
    page = service.get(project.path(*PATH, "runs"), column=["code"], sort="number")
    assert sorted(str(run["code_state"]) for run in page["rows"]) == ["None", "changed", "changed", "clean"]
    (group,) = [
        group
        for group in service.get(project.path(*PATH, "groups"), by="code")["groups"]
        if group["value"] == "changed"
    ]
    assert group["runs"] == 2
    offers = service.get(project.path(*PATH, "offers"), text="code = ")["offers"]
    assert [offer["text"] for offer in offers] == ["clean", "changed", "unversioned"]


def groups(table: Project, by: str, **asked: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = table.service("viewer").get(table.path(*PATH, "groups"), by=by, **asked)["groups"]
    return found


def test_replicates_are_one_line_with_mean_and_spread(table: Project) -> None:
    found = groups(table, "replicates", sort="recall", column=["recall", "seed", "depth", "learner"])
    assert [group["runs"] for group in found] == [3, 2, 1]
    recall, seed, depth, learner = found[0]["cells"]
    assert recall["spread"] == pytest.approx({"runs": 3, "mean": 0.92, "deviation": 0.02, "low": 0.9, "high": 0.94})
    assert not recall["is_shared"]
    assert (depth["is_shared"], depth["shared"], learner["shared"]) == (True, 5, "forest")
    assert (seed["spread"]["low"], seed["spread"]["high"]) == (0, 2)
    # NaN is not a number: one of the two has one, and it is said.
    assert found[1]["cells"][0]["spread"]["runs"] == 1
    assert found[1]["cells"][0]["spread"]["deviation"] is None
    assert not found[1]["cells"][0]["is_shared"]
    assert found[2]["present"] is False
    assert found[2]["cells"][0] is None


@pytest.mark.parametrize(
    "by",
    [
        "replicates",
        "learner",
        "depth",
        "status",
        "author",
        "name",
        "label:purpose",
        "recall",
        "seed",
        "host",
        "commit",
        "parent",
        "experiment",
    ],
)
def test_every_group_finds_its_runs_again(table: Project, by: str) -> None:
    found = groups(table, by, query="fit_seconds > 0 or recall > 0")
    assert sum(group["runs"] for group in found) == 6
    for group in found:
        page = table.service("viewer").get(table.path(*PATH, "runs"), query=group["query"])
        assert page["count"] == group["runs"], group["query"]


def test_groups_come_in_the_order_of_their_means_and_page_by_page(table: Project) -> None:
    assert [group["value"] for group in groups(table, "learner", sort="recall")] == ["forest", "boost", None]
    assert [group["value"] for group in groups(table, "learner", sort="fit_seconds")] == ["boost", "forest", None]
    assert [group["value"] for group in groups(table, "learner", sort="recall:asc")] == ["boost", "forest", None]
    first = table.service("viewer").get(table.path(*PATH, "groups"), by="seed", limit=2)
    assert (first["count"], first["more"], len(first["groups"])) == (4, True, 2)
    rest = table.service("viewer").get(table.path(*PATH, "groups"), by="seed", limit=2, offset=2)
    assert rest["more"] is False
    values = [group["value"] for group in (*first["groups"], *rest["groups"])]
    assert sorted(values[:-1]) == [0, 1, 2]
    assert values[-1] is None


@pytest.mark.parametrize(
    ("by", "message"),
    [
        ("depht", "Nearest: depth"),
        ("note", "not a column"),
        ("started", "are not grouped by started"),
        ("min(recall)", "is of metrics"),
        ("", "names nothing"),
    ],
)
def test_what_runs_are_not_grouped_by(table: Project, by: str, message: str) -> None:
    with pytest.raises(errors.InvalidInput, match=message.replace("(", r"\(")):
        groups(table, by)


def test_lines_that_read_the_same_table(table: Project) -> None:
    page = table.service("viewer").get(table.path(*PATH, "runs"), query="depth = 5", sort="recall", column=["recall"])
    where = f'experiment="frost-alarm", columns=["recall"], sort="recall", project="{table.name}"'
    assert page["python"] == f'kinetrum.runs("depth = 5", {where}).to_pandas()'
    assert (
        page["shell"]
        == f"kinetrum runs 'depth = 5' -e frost-alarm --columns recall --sort recall --project {table.name}"
    )
    grouped = table.service("viewer").get(table.path(*PATH, "groups"), by="replicates")
    assert grouped["python"].endswith('.groups("replicates")')
    assert "--replicates" in grouped["shell"]


def test_facets_of_an_experiment_and_of_a_project(table: Project) -> None:
    for path in (PATH, ()):
        found = table.service("viewer").get(table.path(*path, "facets"))
        keys = {(key["scope"], key["name"]): key for key in found["keys"]}
        assert keys["param", "depth"]["kinds"] == ["number"]
        assert (keys["param", "depth"]["low"], keys["param", "depth"]["high"]) == (5, 6)
        assert sorted(keys["value", "recall"]["kinds"]) == ["number", "special"]
        assert keys["value", "recall"]["goal"]["direction"] == "higher"
        assert keys["label", "purpose"]["kinds"] == ["text"]
        assert "author" in found["fields"]


def test_one_facet_over_the_runs_that_fit(table: Project) -> None:
    def facet(name: str, **asked: Any) -> dict[str, Any]:
        found: dict[str, Any] = table.service("viewer").get(table.path(*PATH, "facet"), name=name, **asked)
        return found

    learner = facet("learner")
    assert [(each["value"], each["runs"]) for each in learner["values"]] == [("forest", 3), ("boost", 2)]
    assert (learner["runs"], learner["of_runs"], learner["nans"]) == (5, 6, 0)
    recall = facet("recall")
    assert (recall["runs"], recall["nans"], recall["low"], recall["high"]) == (5, 1, 0.8, 0.94)
    assert len(recall["values"]) == 4
    few = facet("learner", query="recall >= 0.92")
    assert [(each["value"], each["runs"], each["query"]) for each in few["values"]] == [
        ("forest", 2, "param:learner = forest")
    ]
    assert few["of_runs"] == 2
    assert [each["value"] for each in facet("learner", beginning="oo")["values"]] == ["boost"]
    assert [(each["value"], each["runs"]) for each in facet("author")["values"]] == [("a-contributor", 6)]
    # Those that nobody named have a name of their own.
    names = [each["value"] for each in facet("name")["values"]]
    assert (len(names), "odd one" in names) == (6, True)
    with pytest.raises(errors.InvalidInput, match="are not counted"):
        facet("started")
    with pytest.raises(errors.InvalidInput, match="Nearest: learner"):
        facet("lerner")


def test_a_facet_leaves_the_bin_out(table: Project) -> None:
    service = table.service("contributor")
    for number in (1, 2, 3):
        path = table.path(*PATH, "runs", str(number), "ending")
        service.call("POST", path, json={"status": "finished", "ended_at": AT + 1})
    service.call("POST", table.path("bin"), json={"things": [f"frost-alarm/{number}" for number in (1, 2, 3)]})
    found = service.get(table.path(*PATH, "facet"), name="learner")
    assert [(each["value"], each["runs"]) for each in found["values"]] == [("boost", 2)]
    assert found["of_runs"] == 3


def offered(table: Project, text: str) -> list[str]:
    found = table.service("viewer").get(table.path(*PATH, "offers"), text=text)
    return [offer["text"] for offer in found["offers"]]


def test_offers_while_a_query_is_written(table: Project) -> None:
    assert offered(table, "")[:2] == ["recall", "fit_seconds"] or offered(table, "")[:2] == ["fit_seconds", "recall"]
    assert offered(table, "lea") == ["learner"]
    assert "like" in offered(table, "learner ")
    assert "<" not in offered(table, "learner = forest and status ")
    assert offered(table, "learner = ") == ["forest", "boost"]
    assert offered(table, "learner in {boost, fo") == ["forest"]
    assert offered(table, "status = fin") == ["finished"]
    assert offered(table, "recall >= 0.9 ") == ["and", "or"]
    assert offered(table, "label:") == ["label:purpose"]
    assert offered(table, "author = ") == ["a-contributor"]
    assert offered(table, "this is no query ") == []
    assert "7d" in offered(table, "started within ")


def test_offers_of_data_and_plots(table: Project) -> None:
    service = table.service("contributor")
    service.call(
        "POST",
        table.path(*PATH, "runs", "1", "used"),
        json={
            "id": new_id(),
            "at": AT,
            "name": "nights",
            "by_reference": True,
            "files": [{"path": "a", "size": 1, "sha256": "a" * 64}],
        },
    )
    assert offered(table, "used ") == ["nights@1", "nights"]
    table.service("contributor").call(
        "POST",
        table.path(*PATH, "runs", "1", "plots"),
        json={"id": new_id(), "at": AT, "name": "held-out/roc", "columns": {"a": [1]}, "view": {"x": "a", "y": ["a"]}},
    )
    assert offered(table, "has plot:") == ["plot:held-out/roc"]
    found = service.get(table.path(*PATH, "runs"), query="used nights and has plot:held-out/roc")
    assert [row["number"] for row in found["rows"]] == [1]


def test_children_are_folded_under_parents_that_are_in_the_table(project: Project) -> None:
    parent = project.begin(name="search")
    for depth in (1, 2, 3):
        project.begin(parent=parent["id"], params={"depth": depth})
    project.begin("other-question", parent=parent["id"])
    service = project.service("viewer")
    flat = service.get(project.path(*PATH, "runs"))
    assert flat["count"] == 4
    assert [row["parent"] for row in flat["rows"]] == ["frost-alarm/1"] * 3 + [None]
    folded = service.get(project.path(*PATH, "runs"), fold="true")
    assert [(row["number"], row["children"]) for row in folded["rows"]] == [(1, 3)]
    assert folded["count"] == 1
    # A child whose parent is elsewhere stands for itself.
    elsewhere = service.get(project.path("experiments", "other-question", "runs"), fold="true")
    assert elsewhere["count"] == 1
    assert service.get(project.path("runs"), fold="true")["rows"][0]["children"] == 4


def test_pages_by_row_and_their_end(table: Project) -> None:
    service = table.service("viewer")
    assert [row["number"] for row in service.get(table.path(*PATH, "runs"), offset=4, limit=2)["rows"]] == [2, 1]
    assert service.get(table.path(*PATH, "runs"), offset=100)["rows"] == []
    with pytest.raises(errors.InvalidInput, match="whole table as a file"):
        service.get(table.path(*PATH, "runs"), offset=200_000)


def test_points_of_many_runs_in_one_table(table: Project) -> None:
    service = table.service("contributor")
    for number in (1, 2):
        groups = {"groups": [{"keys": ["loss"], "steps": [0, 1], "times": [AT, AT + 1], "values": [[number, "NaN"]]}]}
        service.call("POST", table.path(*PATH, "runs", str(number), "points"), params={"batch": new_id()}, json=groups)
    for number in (1, 2):
        path = table.path(*PATH, "runs", str(number))
        wait_for(lambda path=path: service.get(path)["metrics"])
    with httpx.Client(base_url=f"{table.instance.url}/api/v1", timeout=20) as client:

        def read(**asked: Any) -> httpx.Response:
            headers = {"Authorization": f"Bearer {table.tokens['viewer']}"}
            return client.get(table.path(*PATH, "series"), params=asked, headers=headers)

        lines = read(metric="loss", query="depth = 5").text.splitlines()
        assert lines[0] == "run,metric,step,time,value"
        assert [line.split(",")[0] for line in lines[1:]] == ["frost-alarm/1"] * 2 + ["frost-alarm/2"] * 2
        assert lines[2].endswith(",NaN")
        assert read(metric="loss", query="learner = boost").text.splitlines() == lines[:1]
        assert read(query="depth = 5").status_code == 422
        assert read(metric="lost").status_code == 404
        import io

        from pyarrow import parquet

        found = parquet.read_table(io.BytesIO(read(metric="loss", form="parquet").content))
        assert found.column_names == ["run", "metric", "step", "time", "value"]
        assert math.isnan(found["value"][1].as_py())


def test_finding_by_a_fragment(table: Project) -> None:
    service = table.service("viewer")

    def find(text: str, **asked: Any) -> list[tuple[str, str]]:
        found = service.get("/find", text=text, project=table.name, **asked)
        # Whoever tests here is a member of other tests' projects too; the named one comes first.
        return [(each["kind"], each["reference"]) for each in found if each["project"] == table.name]

    assert find("frost-alarm")[0] == ("experiment", "experiment:frost-alarm")
    assert find("frost-alarm/2") == [("run", "frost-alarm/2")]
    assert find(f"{table.name}/frost-alarm/2") == [("run", "frost-alarm/2")]
    assert ("run", "frost-alarm/6") in find("odd")
    assert find("6")[0] == ("run", "frost-alarm/6")
    assert find("") == []
    assert find("50%") == []
    assert find("'; DROP") == []
    assert table.service("stranger").get("/find", text="frost", project=table.name) == []


def test_experiments_and_projects_are_described(table: Project) -> None:
    service = table.service("contributor")
    path = table.path("experiments", "frost-alarm")
    body = {"description": " Will it freeze at dawn? ", "labels": {"season": "spring", "gone": "x"}}
    found = service.call("PATCH", path, json=body)
    assert (found["description"], found["labels"]) == ("Will it freeze at dawn?", {"season": "spring", "gone": "x"})
    found = service.call("PATCH", path, json={"labels": {"gone": None}})
    assert (found["description"], found["labels"]) == ("Will it freeze at dawn?", {"season": "spring"})
    assert service.get(table.path("experiments"))[0]["labels"] == {"season": "spring"}
    assert service.call("PATCH", table.path(), json={"description": "Frost"})["description"] == "Frost"
    acts = [
        entry["act"]
        for entry in table.service("maintainer").get(table.path("journal"), subject="experiment:frost-alarm")
    ]
    assert acts.count("described") == 2
    with pytest.raises(errors.InvalidInput):
        service.call("PATCH", path, json={"labels": {'a"b': "x"}})
