"""Views, links for people without an account, and who may show them in a frame."""

from __future__ import annotations

from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from tests.service.search.test_search_api import AT, PATH, add
from tests.support.programs import wait_for
from tests.support.world import Project, new_id

ARRANGED = {
    "q": "recall >= 0.5 and depth = 5",
    "sort": "recall,started:asc",
    "cols": "recall,depth,min(loss)",
    "group": "depth",
    "pin": "recall",
    "wide": "recall~120",
    "sel": "1~1",
    "smooth": "0.5",
}


@pytest.fixture
def place(project: Project) -> Project:
    service = project.service("contributor")
    for depth in (5, 6):
        begun = add(project, {"recall": depth / 10}, params={"depth": depth, "secret": "hidden"}, name=f"depth {depth}")
        points = {"groups": [{"keys": ["loss"], "steps": [0, 1], "times": [AT, AT + 1], "values": [[depth, 1]]}]}
        service.call("POST", project.run_path(begun, "points"), params={"batch": new_id()}, json=points)
        wait_for(lambda begun=begun: service.get(project.run_path(begun))["metrics"])
    return project


def save(place: Project, role: str = "contributor", uid: str | None = None, **fields: Any) -> dict[str, Any]:
    body = {"name": "good ones", "experiment": "frost-alarm", "arrangement": ARRANGED, **fields}
    found: dict[str, Any] = place.service(role).call("PUT", place.path("views", uid or new_id()), json=body)
    return found


def test_a_view_settles_its_names(place: Project) -> None:
    view = save(place)
    assert view["arrangement"] == {
        **ARRANGED,
        "q": "metric:recall >= 0.5 and param:depth = 5",
        "sort": "metric:recall,started:asc",
        "cols": "metric:recall,param:depth,min(metric:loss)",
        "group": "param:depth",
        "pin": "metric:recall",
        "wide": "metric:recall~120",
    }
    lens = save(
        place,
        arrangement={"lens": "parallel", "axes": "depth,recall", "logs": "none", "lx": "depth", "split": "secret"},
    )
    assert lens["arrangement"] == {
        "lens": "parallel",
        "axes": "param:depth,metric:recall",
        "logs": "none",
        "lx": "param:depth",
        "split": "param:secret",
    }
    # Later a result takes the parameter's name; the view still asks the parameter.
    add(place, {"depth": 1}, params={"depth": 5})
    found = place.service("viewer").get(place.path(*PATH, "runs"), query=view["arrangement"]["q"])
    assert [row["number"] for row in found["rows"]] == [1]


def test_views_of_ones_own_and_of_the_project(place: Project) -> None:
    own, shared = save(place), save(place, name="for all", shared=True)
    names = {
        role: [view["name"] for view in place.service(role).get(place.path("views"))]
        for role in ("contributor", "viewer", "maintainer")
    }
    assert names == {"contributor": ["good ones", "for all"], "viewer": ["for all"], "maintainer": ["for all"]}
    # A viewer keeps views for themselves, and changes nobody else's.
    assert save(place, "viewer", name="mine")["mine"] is True
    with pytest.raises(errors.NotAllowed):
        save(place, "viewer", name="theirs", shared=True)
    with pytest.raises(errors.NotAllowed, match="is A Contributor's"):
        save(place, "approver", shared["id"], name="changed", shared=True, expect=1)
    with pytest.raises(errors.NotFound):
        save(place, "maintainer", own["id"], expect=1)
    assert save(place, "maintainer", shared["id"], name="changed", shared=True, expect=1)["version"] == 2


def test_saving_over_what_another_saved_is_refused(place: Project) -> None:
    view = save(place, shared=True)
    assert save(place, uid=view["id"], shared=True, expect=1)["version"] == 2
    with pytest.raises(errors.Conflict, match="since you opened it"):
        save(place, uid=view["id"], shared=True, expect=1)
    place.service("contributor").call("DELETE", place.path("views", view["id"]))
    assert place.service("viewer").get(place.path("views")) == []
    with pytest.raises(errors.NotFound):
        place.service("contributor").call("DELETE", place.path("views", view["id"]))


@pytest.mark.parametrize(
    ("fields", "message"),
    [
        ({"name": ""}, "1 to 100"),
        ({"name": "a\nb"}, "1 to 100"),
        ({"arrangement": {"q": "dept = 3"}}, "Nearest: depth"),
        ({"arrangement": {"q": "depth ="}}, "Column"),
        ({"arrangement": {"sel": "x" * 9_000}}, "8"),
        ({"experiment": "frost"}, "no experiment"),
    ],
)
def test_views_that_cannot_be(place: Project, fields: dict[str, Any], message: str) -> None:
    with pytest.raises((errors.InvalidInput, errors.NotFound), match=message):
        save(place, **fields)


def make_link(place: Project, days: int = 3, **arrangement: str) -> dict[str, Any]:
    body = {"experiment": "frost-alarm", "arrangement": arrangement, "days": days}
    found: dict[str, Any] = place.service("contributor").call("POST", place.path("links"), json=body)
    return found


def opened(place: Project, secret: str, more: str = "") -> httpx.Response:
    return httpx.get(f"{place.instance.url}/api/v1/links/{secret}{more}", timeout=20)


def test_a_link_shows_its_columns_and_nothing_else(place: Project) -> None:
    link = make_link(place, q="depth = 5", cols="recall,min(loss)", y="loss")
    found = opened(place, link["secret"]).json()
    assert [(row["number"], row["cells"]) for row in found["rows"]] == [(1, [0.5, 1])]
    assert [column["name"] for column in found["columns"]] == ["recall", "loss"]
    assert "hidden" not in opened(place, link["secret"]).text
    assert opened(place, link["secret"], "/curves").json()["curves"][0]["values"] == [5, 1]
    # It opens nothing else, and is no key to the rest.
    bearer = {"Authorization": f"Bearer {link['secret']}"}
    assert httpx.get(f"{place.instance.url}/api/v1{place.path('experiments')}", headers=bearer).status_code == 401
    listed = place.service("contributor").get(place.path("links"))
    assert [(each["number"], each["secret"]) for each in listed] == [(link["number"], None)]


def test_a_link_without_columns_shows_what_differs(place: Project) -> None:
    found = opened(place, make_link(place)["secret"]).json()
    assert {column["name"] for column in found["columns"]} == {"recall", "loss", "depth"}
    assert "hidden" not in str(found)


def test_links_end(place: Project) -> None:
    link, other = make_link(place), make_link(place)
    with pytest.raises(errors.NotAllowed):
        place.service("approver").call("DELETE", place.path("links", str(link["number"])))
    place.service("contributor").call("DELETE", place.path("links", str(link["number"])))
    assert opened(place, link["secret"]).status_code == 404
    assert opened(place, "kv_" + "x" * 32).status_code == 404
    assert opened(place, other["secret"]).status_code == 200
    # Its maker may no longer see the project: nothing is shown in their name.
    place.service("maintainer").call("DELETE", place.path("members", "a-contributor"))
    try:
        assert opened(place, other["secret"]).status_code == 404
    finally:
        place.service("maintainer").call("PUT", place.path("members", "a-contributor"), json={"role": "contributor"})
    assert opened(place, other["secret"]).status_code == 200


@pytest.mark.parametrize("days", [0, -1, 367, 10**9])
def test_links_last_some_days(place: Project, days: int) -> None:
    with pytest.raises(errors.InvalidInput, match="1 to 366"):
        make_link(place, days)


def framing(place: Project, path: str, role: str | None = "viewer") -> str:
    headers = {"Authorization": f"Bearer {place.tokens[role]}"} if role else {}
    policy = httpx.get(f"{place.instance.url}{path}", headers=headers).headers["content-security-policy"]
    return policy.partition("frame-ancestors ")[2].partition(";")[0]


def test_only_listed_origins_show_views_in_a_frame(place: Project) -> None:
    link = make_link(place)
    pages = [f"/embed/{place.name}/e/frost-alarm", f"/shared/{link['secret']}"]
    assert [framing(place, page) for page in pages] == ["'none'", "'none'"]
    origins = ["https://wiki.kestrelfold.example", "http://127.0.0.1:9000"]
    with pytest.raises(errors.NotAllowed):
        place.service("approver").call("PUT", place.path("embedding"), json={"origins": origins})
    place.service("maintainer").call("PUT", place.path("embedding"), json={"origins": origins})
    assert [framing(place, page) for page in pages] == [" ".join(origins)] * 2
    # Which origins a project lists, and so that there is such a project, is for those who see it.
    assert [framing(place, page, None) for page in pages] == ["'none'", " ".join(origins)]
    assert framing(place, pages[0], "stranger") == "'none'"
    assert framing(place, f"/{place.name}/e/frost-alarm") == "'none'"
    assert framing(place, "/embed/no-such-project/e/x") == "'none'"
    assert framing(place, "/shared/kv_nothing") == "'none'"
    for wrong in ("*", "https://a.example/path", "https://a.example; script-src *", "javascript:x", "'self'"):
        with pytest.raises(errors.InvalidInput, match="is not an origin"):
            place.service("maintainer").call("PUT", place.path("embedding"), json={"origins": [wrong]})
