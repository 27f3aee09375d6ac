"""The lineage as a graph: distances, folding, sentence, W3C PROV that another reader understands."""

from __future__ import annotations

import io
import json
import time

from prov.model import ProvDocument

from kinetrum.core.base.refs import by_numbers
from kinetrum.core.lineage.graph import (
    BINNED,
    Edge,
    Graph,
    Node,
    before_and_after,
    dangling,
    distances,
    fold,
    lineage_sentence,
    to_prov,
)


def run(number: int, experiment: str = "frost-alarm") -> Node:
    reference = f"{experiment}/{number}"
    return Node(
        f"run:{reference}",
        "run",
        reference,
        experiment,
        "finished",
        person="Ilse Varga",
        extra={"startTime": "2026-11-23T10:00:00Z"},
    )


def version(reference: str, gone: bool = False) -> Node:
    return Node(
        f"artifact:{reference}", "artifact", reference, reference.partition("@")[0], gone=gone, extra={"sha256": "ab"}
    )


def story(runs: int = 1) -> Graph:
    """Readings, made into nights, that runs trained on; the first one's model is in production."""
    nodes = [version("readings@1"), run(1, "night-tables"), version("nights@1"), version("net@1")]
    nodes += [run(number) for number in range(1, runs + 1)]
    nodes.append(Node("model:frost-alarm@1", "model", "frost-alarm@1", "frost-alarm", stages=("production",)))
    edges = [
        Edge("artifact:readings@1", "run:night-tables/1", "used", "raw", "reading"),
        Edge("run:night-tables/1", "artifact:nights@1", "generated"),
        *[Edge("artifact:nights@1", f"run:frost-alarm/{number}", "used", "train") for number in range(1, runs + 1)],
        Edge("run:frost-alarm/1", "artifact:net@1", "generated", step=3, at="2026-11-23T10:05:00Z"),
        Edge("artifact:net@1", "model:frost-alarm@1", "registered"),
    ]
    return Graph("artifact:nights@1", tuple(nodes), tuple(edges))


def test_what_was_before_and_what_came_after() -> None:
    graph = story(2)
    steps = distances(graph)
    assert (steps["artifact:readings@1"], steps["run:frost-alarm/2"], steps["model:frost-alarm@1"]) == (-2, 1, 3)
    before, after = before_and_after(graph)
    assert [node.reference for node in before] == ["readings@1", "night-tables/1"]
    assert [node.reference for node in after][-2:] == ["net@1", "frost-alarm@1"]
    assert lineage_sentence(graph) == (
        "nights@1 came from 1 version and 1 run and led to 1 version, 2 runs and 1 model version. In use: "
        "frost-alarm@1 on production now."
    )
    alone = Graph("artifact:nights@1", (version("nights@1"),), ())
    assert lineage_sentence(alone) == "nights@1 came from nothing that was recorded and led to nothing yet."


def test_two_thousand_runs_fold_into_one() -> None:
    folded = fold(story(2_000), 60)
    assert len(folded.nodes) == 7
    group = next(node for node in folded.nodes if node.kind == "group")
    assert group.reference == "1,999 runs of frost-alarm"
    assert len(group.members) == 1_999
    assert {edge.role for edge in folded.edges if edge.target == group.id} == {"train"}
    assert folded.start == "artifact:nights@1"
    assert fold(story(30), 60) == story(30)
    known = {node.id for node in folded.nodes}
    assert all({edge.source, edge.target} <= known for edge in folded.edges)


def test_what_is_alike_only_by_distance_is_folded_where_needed() -> None:
    """Each run generated a version of its own: no two have the same neighbours."""
    runs = 300
    nodes = (
        [version("nights@1")] + [run(n) for n in range(1, runs + 1)] + [version(f"net@{n}") for n in range(1, runs + 1)]
    )
    edges = [Edge("artifact:nights@1", f"run:frost-alarm/{n}", "used") for n in range(1, runs + 1)]
    edges += [Edge(f"run:frost-alarm/{n}", f"artifact:net@{n}", "generated") for n in range(1, runs + 1)]
    folded = fold(Graph("artifact:nights@1", tuple(nodes), tuple(edges)), 60)
    assert [node.reference for node in folded.nodes] == ["nights@1", "300 runs of frost-alarm", "300 versions of net"]
    assert len(folded.edges) == 2


def test_prov_is_read_back_whole() -> None:
    graph = story(3)
    doc = to_prov(graph, "http://127.0.0.1/projects/orchard/")
    assert dangling(doc) == []
    read = ProvDocument.deserialize(io.StringIO(json.dumps(doc)), format="json")
    names = {str(record.identifier) for record in read.get_records() if record.identifier}
    assert {
        "kinetrum:artifact/nights@1",
        "kinetrum:run/frost-alarm/3",
        "kinetrum:run/night-tables/1/activity/reading",
    } <= names
    again = json.loads(read.serialize(format="json"))
    for part in ("entity", "activity", "used", "wasGeneratedBy", "wasDerivedFrom"):
        assert len(again[part]) == len(doc[part]), part
    assert ProvDocument.deserialize(io.StringIO(json.dumps(again)), format="json") == read


def test_dangling_references_are_found() -> None:
    doc = to_prov(
        Graph(
            "artifact:nights@1", (version("nights@1", gone=True),), (Edge("artifact:nights@1", "run:gone/1", "used"),)
        ),
        "urn:x/",
    )
    assert dangling(doc) == ["kinetrum:run/gone/1"]
    assert doc["entity"]["kinetrum:artifact/nights@1"]["kinetrum:purged"] is True


def test_a_graph_of_ten_thousand_is_walked_without_recursion() -> None:
    nodes = [version(f"a@{n}") for n in range(1, 10_001)]
    edges = [Edge(f"artifact:a@{n}", f"artifact:a@{n + 1}", "used") for n in range(1, 10_000)]
    began = time.monotonic()
    assert distances(Graph("artifact:a@1", tuple(nodes), tuple(edges)))["artifact:a@10000"] == 9_999
    assert time.monotonic() - began < 20


def test_checkpoints_in_the_bin_are_folded_always() -> None:
    nodes = [run(1)] + [
        Node(f"artifact:net@{n}", "artifact", f"net@{n}", "net", BINNED if n > 1 else "") for n in range(1, 7)
    ]
    edges = [Edge("run:frost-alarm/1", f"artifact:net@{n}", "generated") for n in range(1, 7)]
    folded = fold(Graph("run:frost-alarm/1", tuple(nodes), tuple(edges)), 60)
    assert [node.reference for node in folded.nodes] == ["frost-alarm/1", "net@1", "5 versions of net"]


def test_references_are_sorted_by_their_numbers() -> None:
    given = ["e/10", "e/2", "nights@3", "nights@12", "e/1", "alpha2/1", "alpha10/1", "e"]
    assert sorted(given, key=by_numbers) == [
        "alpha2/1",
        "alpha10/1",
        "e",
        "e/1",
        "e/2",
        "e/10",
        "nights@3",
        "nights@12",
    ]
