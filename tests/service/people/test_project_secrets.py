"""Secrets of projects: set by maintainers, shown to nobody, sealed in the database, and sealed anew with another key."""

from __future__ import annotations

import json
import os
import subprocess
import sys

import httpx
import pytest

from kinetrum.core.access.sealing import Seal
from kinetrum.core.access.sealing_keys import new_key
from kinetrum.core.base import errors
from tests.cli.test_commands import Out, run
from tests.support.programs import wait_for
from tests.support.world import Instance, Project, read_rows, service_process

VALUE = "xanthous-pipeline-signature"


def set_one(project: Project, name: str = "pipeline", value: str = VALUE, role: str = "maintainer") -> None:
    project.service(role).call("PUT", project.path("secrets", name), json={"value": value})


def sealed(instance: Instance, project: Project) -> dict[str, bytes]:
    rows = read_rows(
        instance,
        "SELECT s.name, s.sealed FROM project_secret s JOIN project p ON p.project_id = s.project_id "
        f"WHERE p.name = '{project.name}'",
    )
    return dict(rows)


def test_a_secret_is_set_listed_changed_and_removed(instance: Instance, project: Project) -> None:
    owner = project.service("maintainer")
    assert owner.get(project.path("secrets")) == []
    set_one(project)
    (one,) = owner.get(project.path("secrets"))
    assert (one["name"], one["set_by"], set(one)) == ("pipeline", "A Maintainer", {"name", "set_at", "set_by"})
    before = sealed(instance, project)["pipeline"]
    assert VALUE.encode() not in before
    key = json.loads((instance.home.secrets_file).read_text())["secrets_key"]
    number = read_rows(instance, f"SELECT project_id FROM project WHERE name = '{project.name}'")[0][0]
    assert Seal([key]).open(before, f"{number}/pipeline") == VALUE
    set_one(project, value="another")
    assert Seal([key]).open(sealed(instance, project)["pipeline"], f"{number}/pipeline") == "another"
    owner.remove(project.path("secrets", "pipeline"))
    assert owner.get(project.path("secrets")) == []
    with pytest.raises(errors.NotFound, match="has no secret 'pipeline'"):
        owner.remove(project.path("secrets", "pipeline"))
    acts = [(entry["act"], entry["subject"]) for entry in owner.get(project.path("journal"), text="secret")]
    assert acts == [("removed a secret", "pipeline"), ("changed a secret", "pipeline"), ("set a secret", "pipeline")]


def test_it_is_in_no_answer_no_journal_and_no_archive(instance: Instance, project: Project, raw: httpx.Client) -> None:
    set_one(project)
    for path in ("secrets", "settings", "journal", "journal/lines"):
        assert VALUE not in raw.get(project.path(path)).text
    assert VALUE.encode() not in raw.get(project.path("archive"), params={"of": f"project:{project.name}"}).content
    assert VALUE not in str(read_rows(instance, "SELECT * FROM journal"))
    for role in ("viewer", "contributor", "approver", "stranger"):
        with pytest.raises((errors.NotAllowed, errors.NotFound)):
            project.service(role).get(project.path("secrets"))
        with pytest.raises((errors.NotAllowed, errors.NotFound)):
            set_one(project, role=role)
    assert VALUE.encode() not in b"".join(sealed(instance, project).values())


def test_bounds(project: Project) -> None:
    for value, told in (("", "at least 1"), ("ä" * 2_001, "not 4,002"), ("x" * 4_001, "at most 4000")):
        with pytest.raises(errors.InvalidInput, match=told):
            set_one(project, value=value)
    set_one(project, value="ä" * 2_000)
    with pytest.raises(errors.InvalidInput):
        set_one(project, name="a%20b")
    for at in range(99):
        set_one(project, name=f"n{at}")
    with pytest.raises(errors.Conflict, match="has 100 secrets"):
        set_one(project, name="one-more")
    set_one(project, name="n5", value="changed all the same")


def test_secrets_go_with_the_project(instance: Instance, project: Project) -> None:
    admin, name = instance.service(), f"{project.name}-x"
    admin.call("POST", "/projects", json={"name": name})
    admin.call("PUT", f"/projects/{name}/secrets/pipeline", json={"value": VALUE})
    number = read_rows(instance, f"SELECT project_id FROM project WHERE name = '{name}'")[0][0]
    counted = f"SELECT COUNT(*) FROM project_secret WHERE project_id = {number}"
    admin.call("POST", f"/projects/{name}/deletion", json={"confirmed": name})
    assert read_rows(instance, counted)[0][0] == 1
    admin.call("POST", f"/deleted-projects/{name}/removal", json={"confirmed": name})
    assert read_rows(instance, counted)[0][0] == 0


def test_another_key_comes_first_and_the_earlier_one_goes(instance: Instance, project: Project) -> None:
    """A service that has both seals anew; afterwards the new one alone opens everything."""
    set_one(project)
    first = json.loads(instance.home.secrets_file.read_text())["secrets_key"]
    second = new_key()
    place = (
        f"{read_rows(instance, f'''SELECT project_id FROM project WHERE name = '{project.name}' ''')[0][0]}/pipeline"
    )
    with service_process(instance, KINETRUM_SECRETS_KEY=f"{second} {first}"):
        wait_for(lambda: Seal([second]).is_latest(sealed(instance, project)["pipeline"]), 20)
    assert Seal([second]).open(sealed(instance, project)["pipeline"], place) == VALUE
    # And back, for the tests that follow.
    with service_process(instance, KINETRUM_SECRETS_KEY=f"{first}, {second}"):
        wait_for(lambda: Seal([first]).is_latest(sealed(instance, project)["pipeline"]), 20)
    assert Seal([first]).open(sealed(instance, project)["pipeline"], place) == VALUE


def test_without_a_key_none_is_kept(instance: Instance, project: Project) -> None:
    with (
        service_process(instance, KINETRUM_SECRETS_KEY="") as (url, _),
        httpx.Client(base_url=f"{url}/api/v1", headers={"Authorization": f"Bearer {instance.token}"}) as client,
    ):
        answer = client.put(project.path("secrets", "pipeline"), json={"value": VALUE})
        assert answer.status_code == 409
        assert "has no key to seal them with. Whoever runs it sets KINETRUM_SECRETS_KEY" in answer.json()["detail"]
        assert client.get(project.path("secrets")).json() == []


@pytest.mark.parametrize("wrong", ["secret", "c2l4dGVlbiBieXRlcyBhbmQgc2l4dGVlbiBtb3JlLi4= short"])
def test_a_wrong_key_is_said_and_not_shown(wrong: str) -> None:
    settings = {"KINETRUM_DATABASE": "mariadb://a:b@127.0.0.1:1/x", "KINETRUM_STORE": "/nowhere"}
    done = subprocess.run(
        [sys.executable, "-m", "kinetrum.service.main"],
        env=os.environ | settings | {"KINETRUM_SECRETS_KEY": wrong},
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 1
    assert done.stderr.startswith(
        "KINETRUM_SECRETS_KEY is wrong: a key is 32 bytes in base64, and one of these is not;"
    )
    assert wrong not in done.stderr and "Traceback" not in done.stderr


def test_the_command_line(recording: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["maintainer"])
    import io

    name = recording.name
    assert run(capsys, "secret", "list")[1] == f"{name} has no secrets.\n"
    monkeypatch.setattr("sys.stdin", io.StringIO(f"{VALUE}\n"))
    status, out, told = run(capsys, "secret", "set", "pipeline")
    assert (status, out) == (0, f"Set pipeline of {name}; nobody is shown it again.\n"), told
    listed = run(capsys, "secret", "list", "--project", name)[1]
    assert "pipeline" in listed and "A Maintainer" in listed and VALUE not in listed
    assert json.loads(run(capsys, "secret", "list", "--json")[1])[0]["name"] == "pipeline"
    assert run(capsys, "secret", "remove", "pipeline")[:2] == (0, f"Removed pipeline of {name}.\n")
    status, out, told = run(capsys, "admin", "new-key")
    assert (status, len(out.strip())) == (0, 44)
    assert "without it, what it sealed is lost" in told
    Seal([out.strip()])
