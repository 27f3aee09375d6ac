"""Accounts, sessions, and every route against every role, enumerated from the interface itself."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import httpx
import pytest

from kinetrum.core.base import errors
from kinetrum.service.app import make_app
from tests.support.programs import wait_for
from tests.support.world import ALL_SCOPES, PASSWORD, ROLES, Instance, Project, new_id

A = "a" * 64
BODIES: dict[str, Any] = {
    "begin_run": {"started_at": 1},
    "set_parameters": {"params": {"a": 1}},
    "add_results": {"results": []},
    "add_problem": {"id": new_id(), "text": "x", "at": 1},
    "record_ending": {"status": "finished", "ended_at": 1},
    "add_used": {
        "id": new_id(),
        "at": 1,
        "name": "n",
        "by_reference": True,
        "files": [{"path": "a", "size": 1, "sha256": A}],
    },
    "add_generated": {"id": new_id(), "at": 1, "name": "n", "files": [{"path": "a", "size": 1, "sha256": A}]},
    "add_points": {"groups": []},
    "list_missing_blobs": {"sha256": [A]},
    "keep_version": {"id": new_id(), "at": 1, "by_reference": True, "files": [{"path": "a", "size": 1, "sha256": A}]},
    "register_version": {"id": new_id(), "artifact": "n@1"},
    "give_verdict": {"verdict": "approve"},
    "add_evidence": {"id": new_id(), "on": "x", "run": "e/1"},
    "label_model_version": {"labels": {"a": "b"}},
    "write_card": {"card": "x", "expect": 0},
    "describe_model": {"purpose": "x"},
    "rule_model": {"approvals_needed": 1},
    "set_ladder": {"stages": [{"name": "production"}]},
    "set_gates": {"gates": ""},
    "draft_gates": {"gates": "", "stage": "production", "kind": "approvals", "fields": {}},
    "set_retirement": {"retired": True},
    "choose_lead": {"version": None},
    "promote": {"id": new_id(), "version": 1, "expect": None},
    "demote": {"id": new_id(), "expect": None},
    "roll_back": {"id": new_id(), "expect": None},
    "set_role": {"role": "viewer"},
    "set_group_role": {"role": "viewer"},
    "set_quota": {"size_bytes": None},
    "change_settings": {"is_open": False},
    "delete_project": {"confirmed": "not its name"},
    "make_machine_token": {"name": "nightly", "scopes": ["administer"]},
    "set_secret": {"value": "x"},
    "resume_run": {"at": 1},
    "rename_run": {"name": "n"},
    "rename_experiment": {"name": "n"},
    "rename_model": {"name": "n"},
    "correct_parameters": {"params": {"depth": 1}},
    "add_notes": {"id": new_id(), "things": ["e/1"], "text": "x"},
    "label_runs": {"runs": ["e/1"], "labels": {"a": "b"}},
    "bin_things": {"things": ["e/1"]},
    "restore_things": {"things": ["e/1"]},
    "purge": {"only_tell": True},
    "set_seeds": {"seeds": ["seed"]},
    "set_goal": {"direction": "higher"},
    "add_output": {"writer": new_id(), "pieces": [{"position": 1, "at": 1, "stream": "stdout", "text": "x"}]},
    "add_surroundings": {"about": {"command": "x"}},
    "add_resources": {"id": new_id(), "samples": {"at": [1]}},
    "describe_artifact": {"labels": {"a": "b"}},
    "label_version": {"labels": {"a": "b"}},
    "add_plot": {"id": new_id(), "at": 1, "name": "roc", "columns": {"a": [1]}, "view": {"x": "a", "y": ["a"]}},
    "declare_view": {"name": "roc", "view": {}},
    "describe_experiment": {"description": "x"},
    "describe_project": {"labels": {"a": "b"}},
    "save_view": {"name": "v", "shared": True, "arrangement": {}},
    "make_link": {"experiment": "e", "arrangement": {}},
    "set_embedding": {"origins": []},
    "preview_rules": {"approvals_needed": 2},
    "add_activity": {"name": "training", "started_at": 1},
    "set_progress": {"done": 1, "since": 1, "at": 2},
}
# The least role of every route of a project; a route that is not here fails the test.
LEAST: dict[str, str] = (
    dict.fromkeys(
        [
            "read_project",
            "list_members",
            "list_experiments",
            "read_experiment",
            "list_runs",
            "list_project_runs",
            "read_run",
            "read_run_by_id",
            "read_points",
            "read_curves",
            "compare_runs",
            "compare_rows",
            "compare_curves",
            "read_reasons",
            "read_effects",
            "read_columns",
            "list_artifacts",
            "list_artifact_versions",
            "read_artifact_version",
            "download_file",
            "list_models",
            "read_model",
            "read_model_version",
            "what_is",
            "follow_project",
            "export_runs",
            "export_project_runs",
            "export_points",
            "read_packed_points",
            "list_results",
            "list_notes",
            "list_bin",
            "read_artifact",
            "list_folder",
            "read_lineage",
            "export_prov",
            "preview_file",
            "read_usage",
            "export_archive",
            "compare_versions",
            "compare_file",
            "find_uses",
            "download_bundle",
            "list_plots",
            "read_plots",
            "read_kept_names",
            "read_items",
            "read_thumbnail",
            "read_rows",
            "read_joined_rows",
            "read_output",
            "download_output",
            "read_surroundings",
            "read_resources",
            "list_groups",
            "list_project_groups",
            "list_facets",
            "list_project_facets",
            "read_facet",
            "read_project_facet",
            "list_offers",
            "list_project_offers",
            "export_series",
            "export_project_series",
            "list_views",
            "remove_view",
            "read_embedding",
            "read_review",
            "look_at_gates",
            "fetch_version",
            "download_version_file",
            "download_version_bundle",
            "list_fetches",
            "read_feed",
            "preview_rules",
            "draft_gates",
        ],
        "viewer",
    )
    | dict.fromkeys(
        [
            "begin_run",
            "set_parameters",
            "add_points",
            "add_results",
            "add_problem",
            "keep_alive",
            "record_ending",
            "add_used",
            "add_generated",
            "list_missing_blobs",
            "put_blob",
            "keep_version",
            "register_version",
            "resume_run",
            "rename_run",
            "correct_parameters",
            "add_notes",
            "remove_note",
            "label_runs",
            "bin_things",
            "restore_things",
            "import_archive",
            "add_blobs",
            "read_upload",
            "continue_blob",
            "describe_artifact",
            "label_version",
            "set_goal",
            "remove_goal",
            "set_seeds",
            "add_output",
            "add_surroundings",
            "add_resources",
            "add_activity",
            "set_progress",
            "add_plot",
            "declare_view",
            "describe_experiment",
            "describe_project",
            "save_view",
            "list_links",
            "make_link",
            "revoke_link",
            "add_evidence",
            "label_model_version",
            "write_card",
            "describe_model",
            "rename_experiment",
        ],
        "contributor",
    )
    | dict.fromkeys(["give_verdict", "promote", "demote", "roll_back"], "approver")
    | dict.fromkeys(
        [
            "set_retirement",
            "rename_model",
            "choose_lead",
            "rule_model",
            "set_ladder",
            "set_gates",
            "set_role",
            "remove_member",
            "read_journal",
            "export_journal",
            "purge",
            "set_embedding",
            "read_settings",
            "change_settings",
            "delete_project",
            "set_group_role",
            "remove_group",
            "list_machine_tokens",
            "make_machine_token",
            "revoke_machine_token",
            "list_secrets",
            "set_secret",
            "remove_secret",
        ],
        "maintainer",
    )
)


ADMINISTRATORS = {"set_quota"}
# The scope that a route takes; `read` where it is not listed. A route that changes something has to be here.
SCOPES: dict[str, str] = (
    dict.fromkeys([name for name, least in LEAST.items() if least == "contributor"], "record")
    | dict.fromkeys(["save_view", "remove_view"], "record")
    | dict.fromkeys(["register_version", "add_evidence", "write_card"], "register")
    | {"give_verdict": "review"}
    | dict.fromkeys(["promote", "demote", "roll_back", "choose_lead", "set_retirement"], "place")
    | dict.fromkeys(
        [
            "rename_model",
            "rule_model",
            "set_ladder",
            "set_gates",
            "set_role",
            "remove_member",
            "purge",
            "set_embedding",
            "read_settings",
            "change_settings",
            "delete_project",
            "set_group_role",
            "remove_group",
            "list_machine_tokens",
            "make_machine_token",
            "revoke_machine_token",
            "list_secrets",
            "set_secret",
            "remove_secret",
            "read_journal",
            "export_journal",
        ],
        "administer",
    )
)
# Routes that put something in and answer with nothing that was there before: recording alone is enough.
# What others recorded takes two: one to move things, one to move other people's.
SCOPES |= dict.fromkeys(["bin_things", "restore_things"], "record and administer")
ONLY_IN = {
    "add_activity",
    "add_blobs",
    "add_generated",
    "add_output",
    "add_plot",
    "add_points",
    "add_problem",
    "add_resources",
    "add_results",
    "add_surroundings",
    "add_used",
    "begin_run",
    "continue_blob",
    "declare_view",
    "import_archive",
    "keep_alive",
    "keep_version",
    "list_missing_blobs",
    "put_blob",
    "read_upload",
    "record_ending",
    "resume_run",
    "set_parameters",
    "set_progress",
}


CLIENT = httpx.Client(timeout=20)


def project_routes() -> list[tuple[str, str, str]]:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        paths = make_app(Path(folder)).openapi()["paths"]
    return [
        (operation["operationId"], method.upper(), path)
        for path, operations in paths.items()
        if path.startswith("/api/v1/projects/{project}")
        for method, operation in operations.items()
    ]


def address_of(project: Project, name: str, path: str) -> tuple[str, dict[str, Any]]:
    """Make what a route is about, as far as it takes it; returns its address and parameters that make sense."""
    project.begin("e")
    names = {
        "project": project.name,
        "experiment": "e",
        "run": "1",
        "artifact": "n",
        "version": "1",
        "model": "m",
        "stage": "production",
        "person": "a-viewer",
        "group": "growers",
        "token": "nightly",
        "sha256": A,
        "path": "x",
        "name": "e",
        "note": new_id(),
        "activity": new_id(),
        "view": new_id(),
        "link": "1",
    }
    if (
        name in {"promote", "demote", "roll_back", "give_verdict", "set_retirement", "choose_lead", "read_review"}
        or "/models/{model}/" in path
    ):
        project.registered(1, "m")
    if name in {"bin_things", "restore_things"}:
        # Theirs to bin once it has ended; what others recorded is another test.
        project.service("contributor").call(
            "POST", project.path("experiments", "e", "runs", "1", "ending"), json={"status": "finished", "ended_at": 1}
        )
    params = {
        "key": "loss",
        "metric": "loss",
        "column": "started",
        "run": ["e/1", "e/1"],
        "batch": new_id(),
        "left": "n@1:x" if name == "compare_file" else "n@1",
        "right": "n@1:x" if name == "compare_file" else "n@1",
        "digest": A,
        "of": "n@1" if name == "read_rows" else "e/1",
        "path": "x",
        "name": "status" if "facet" in name else "roc",
        "by": "status",
    }
    return project.instance.url + re.sub(r"\{(\w+)(:path)?\}", lambda part: names[part[1]], path), params


def status_of(method: str, name: str, url: str, params: dict[str, Any], token: str) -> int:
    headers = {"Authorization": f"Bearer {token}", "Upload-Offset": "0", "Upload-Length": "9"}
    body = BODIES.get(name) if method != "GET" else None
    with CLIENT.stream(method, url, params=params, headers=headers, json=body) as answer:
        return answer.status_code


@pytest.mark.parametrize(("name", "method", "path"), project_routes())
def test_every_route_for_every_role(project: Project, name: str, method: str, path: str) -> None:
    url, params = address_of(project, name, path)
    # What takes an administrator of the instance no role permits.
    least = len(ROLES) if name in ADMINISTRATORS else ROLES.index(LEAST[name])
    for role in (*ROLES, "stranger"):
        status = status_of(method, name, url, params, project.tokens[role])
        if role == "stranger":
            assert status == 404, (name, role)
        elif ROLES.index(role) < least or (
            name in {"bin_things", "restore_things", "save_view"} and role == "approver"
        ):
            assert status == 403, (name, role)
        else:
            assert status not in {401, 403, 405} and status < 500, (name, role, status)


@pytest.fixture(scope="session")
def limited(instance: Instance, people: dict[str, str]) -> dict[str, str]:
    """Tokens of one maintainer, each with one scope, or with two."""
    admin, tokens = instance.service(), {}
    for words in (*ALL_SCOPES, "record+read"):
        body = {"name": f"only-{words.replace('+', '-')}", "person": "a-maintainer", "scopes": words.split("+")}
        tokens[words] = admin.call("POST", "/tokens", json=body)["secret"]
    return tokens


@pytest.mark.parametrize(("name", "method", "path"), project_routes())
def test_every_route_for_every_scope(
    project: Project, limited: dict[str, str], name: str, method: str, path: str
) -> None:
    """Whoever has the role may do it by a token only where the token is for it."""
    url, params = address_of(project, name, path)
    needed = "no role" if name in ADMINISTRATORS else SCOPES.get(name, "read")
    for scope, token in limited.items():
        status = status_of(method, name, url, params, token)
        if needed in scope.split("+") and (name in ONLY_IN or scope != needed or scope not in {"record", "report"}):
            assert status not in {401, 403} and status < 500, (name, scope, status)
        elif needed == "read" and scope not in {"record", "report"}:
            # Whatever else a token is for, it may read.
            assert status not in {401, 403} and status < 500, (name, scope, status)
        else:
            assert status == 403, (name, scope, status)


def test_stages_open_to_contributors(project: Project) -> None:
    project.registered()
    project.place("promotions", "development", "contributor", version=1, expect=None)
    with pytest.raises(errors.NotAllowed, match="takes a contributor"):
        project.place("demotions", "development", "viewer", expect=1)
    project.verdict(1, "approve")
    project.place("promotions", "staging", "contributor", version=1, expect=None)
    with pytest.raises(errors.NotAllowed, match="takes an approver"):
        project.place("promotions", "production", "contributor", version=1, expect=None)


@pytest.fixture
def browser(instance: Instance) -> Any:
    with httpx.Client(base_url=f"{instance.url}/api/v1") as client:
        yield client


def test_a_session_with_its_csrf_token(browser: httpx.Client, people: dict[str, str], project: Project) -> None:
    answer = browser.post("/session", json={"name": "a-approver", "password": PASSWORD})
    cookie = answer.headers["set-cookie"]
    assert "HttpOnly" in cookie
    assert "samesite=strict" in cookie.lower()
    token = answer.json()["csrf_token"]
    assert browser.get("/session").json()["full_name"] == "A Approver"
    without = browser.post("/tokens", json={"name": "x"})
    assert without.status_code == 403
    assert "Kinetrum-Csrf" in without.json()["detail"]
    for wrong in (b"wrong", "é".encode("latin-1"), "é".encode()):
        assert browser.post("/tokens", json={"name": "x"}, headers={"Kinetrum-Csrf": wrong}).status_code == 403
    made = browser.post("/tokens", json={"name": "x"}, headers={"Kinetrum-Csrf": token})
    assert made.status_code == 201
    assert browser.delete("/session", headers={"Kinetrum-Csrf": token}).status_code == 204
    assert browser.get("/session").status_code == 204
    assert browser.get("/projects").status_code == 401


@pytest.mark.parametrize(("name", "password"), [("a-approver", "wrong password"), ("nobody", PASSWORD), ("", "")])
def test_wrong_credentials_are_not_told_apart(browser: httpx.Client, people: Any, name: str, password: str) -> None:
    answer = browser.post("/session", json={"name": name, "password": password})
    assert answer.status_code == 401
    assert answer.json()["detail"] == "Name and password do not fit together."


def test_a_new_password_ends_sessions(browser: httpx.Client, instance: Instance, people: Any) -> None:
    admin = instance.service()
    admin.call("POST", "/people", json={"name": "temp", "full_name": "Temp", "password": PASSWORD})
    assert browser.post("/session", json={"name": "temp", "password": PASSWORD}).status_code == 200
    admin.call("PUT", "/people/temp/password", json={"password": "another long password"})
    assert browser.get("/projects").status_code == 401
    assert browser.post("/session", json={"name": "temp", "password": PASSWORD}).status_code == 401


def test_tokens_can_be_revoked(instance: Instance, people: dict[str, str]) -> None:
    mine = instance.service(people["viewer"])
    secret = mine.call("POST", "/tokens", json={"name": "laptop"})["secret"]
    assert instance.service(secret).get("/session")["name"] == "a-viewer"
    mine.call("DELETE", "/tokens/laptop")
    with pytest.raises(errors.NotSignedIn):
        instance.service(secret).get("/projects")
    with pytest.raises(errors.NotFound):
        mine.call("DELETE", "/tokens/laptop")


def test_secrets_are_not_stored(instance: Instance, people: dict[str, str]) -> None:
    needles = [secret.encode() for secret in people.values()] + [PASSWORD.encode()]
    for file in instance.home.database.rglob("*.ibd"):
        content = file.read_bytes()
        assert not any(needle in content for needle in needles), file


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("GET", "/people", None),
        ("POST", "/people", {"name": "x", "full_name": "X", "password": PASSWORD}),
        ("POST", "/projects", {"name": "x-y"}),
        ("POST", "/tokens", {"name": "t", "person": "a-approver"}),
        ("PUT", "/people/a-approver/password", {"password": PASSWORD}),
    ],
)
def test_what_takes_an_administrator(instance: Instance, people: Any, method: str, path: str, body: Any) -> None:
    with pytest.raises(errors.NotAllowed, match="is not an administrator"):
        instance.service(people["maintainer"]).call(method, path, **({"json": body} if body else {}))


def test_wrong_accounts(instance: Instance, people: Any) -> None:
    admin = instance.service()
    good = {"name": "newby", "full_name": "New", "password": PASSWORD}
    for wrong in ({"name": "A B"}, {"password": "short"}, {"full_name": " "}, {"extra": 1}):
        with pytest.raises(errors.InvalidInput):
            admin.call("POST", "/people", json=good | wrong)
    with pytest.raises(errors.Conflict):
        admin.call("POST", "/people", json=good | {"name": "a-viewer"})
    with pytest.raises(errors.InvalidInput):
        admin.call("PUT", "/projects/main/members/a-viewer", json={"role": "king"})
    with pytest.raises(errors.NotFound):
        admin.call("PUT", "/projects/main/members/nobody", json={"role": "viewer"})


def test_projects_of_others_do_not_exist(project: Project) -> None:
    stranger = project.service("stranger")
    assert project.name not in [row["name"] for row in stranger.get("/projects")]
    assert project.name in [row["name"] for row in project.service("viewer").get("/projects")]
    with pytest.raises(errors.NotFound):
        stranger.get(project.path())
    admin = project.service()
    admin.call("DELETE", project.path("members", "a-viewer"))
    with pytest.raises(errors.NotFound):
        wait_for(lambda: project.service("viewer").get(project.path()))
