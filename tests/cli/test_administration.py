"""Administration from the command line: people, tokens, projects, the journal, and one's own account."""

from __future__ import annotations

import io
import json
from pathlib import Path

import httpx
import pytest

from kinetrum.core.access import token_form
from tests.cli.test_commands import Out, run
from tests.support.world import PASSWORD, Project, change_rows, new_id


@pytest.fixture
def admin(recording: Project, monkeypatch: pytest.MonkeyPatch) -> Project:
    monkeypatch.setenv("KINETRUM_TOKEN", recording.tokens["admin"])
    change_rows(recording.instance, "DELETE FROM sign_in_failure")
    return recording


def name_of() -> str:
    return f"x-{new_id()[-10:]}"


def lines_in(monkeypatch: pytest.MonkeyPatch, *lines: str) -> None:
    monkeypatch.setattr("sys.stdin", io.StringIO("".join(f"{line}\n" for line in lines)))


def test_somebody_is_invited_comes_and_leaves(admin: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch) -> None:
    name = name_of()
    invite = ("admin", "invite", name, "--full-name", "Noor Adair", "--mail", "noor@kestrelfold.example")
    status, link, told = run(capsys, *invite, "--role", "contributor", "--project", admin.name)
    assert status == 0
    assert told.startswith("Noor Adair chooses a password here, once, until ")
    assert link.startswith(f"{admin.instance.url}/welcome/kl_")
    row = next(line for line in run(capsys, "admin", "people")[1].splitlines() if line.startswith(name))
    assert "invited until" in row and f"{admin.name} contributor" in row
    secret = link.strip().rpartition("/")[2]
    opened = httpx.post(f"{admin.instance.url}/api/v1/account-links/{secret}", json={"password": PASSWORD})
    assert opened.status_code == 204
    # From name and password to a token of this machine that records, and nothing else.
    monkeypatch.delenv("KINETRUM_TOKEN")
    lines_in(monkeypatch, name, PASSWORD)
    status, text, told = run(
        capsys, "connect", admin.instance.url, "--project", admin.name, "--scopes", "record", "--days", "7"
    )
    assert (status, told) == (0, "") and "as Noor Adair" in text
    monkeypatch.setenv("KINETRUM_TOKEN", admin.tokens["admin"])
    (token,) = json.loads(run(capsys, "admin", "tokens", "--person", name, "--json")[1])
    assert (token["scopes"], token["name"].startswith("from-")) == (["record"], True)
    assert token["last_used_at"] is not None
    status, text, _ = run(capsys, "admin", "deactivate", name)
    assert "Noor Adair is out: sessions, tokens, links and streams have ended." in text
    assert run(capsys, "admin", "tokens", "--person", name)[1] == "There are none.\n"
    assert "deactivated" in next(line for line in run(capsys, "admin", "people")[1].splitlines() if name in line)
    assert "can sign in again" in run(capsys, "admin", "reactivate", name)[1]
    assert run(capsys, "admin", "link", name)[1].startswith(f"{admin.instance.url}/welcome/kl_")
    assert run(capsys, "admin", "invite", name, "--full-name", "N")[0] == 1
    status, _, told = run(capsys, "admin", "invite", name_of(), "--full-name", "N", "--role", "viewer")
    assert status == 2 and "give both --role and --project" in told


def test_groups_and_roles(admin: Project, capsys: Out) -> None:
    name, group = name_of(), f"g-{new_id()[-8:]}"
    admin.service().call("POST", "/people", json={"name": name, "full_name": "Noor Adair", "password": PASSWORD})
    assert run(capsys, "admin", "person", name, "--groups", f"{group},others")[1] == (
        f"Noor Adair ({name}), of {group}, others\n"
    )
    assert (
        run(capsys, "admin", "role", f"group:{group}", "approver")[1] == f"group:{group} is approver in {admin.name}.\n"
    )
    assert f"group:{group}" in run(capsys, "admin", "project", admin.name)[1]
    assert name in {one["name"] for one in admin.service().get(admin.path("members"))}
    assert "has no role" in run(capsys, "admin", "role", f"group:{group}", "none")[1]
    assert run(capsys, "admin", "person", name)[0] == 2
    assert "administrator" in run(capsys, "admin", "person", name, "--administrator")[1]
    assert "administrator" not in run(capsys, "admin", "person", name, "--no-administrator")[1]


def test_tokens_of_ones_own_and_of_machines(admin: Project, capsys: Out) -> None:
    name = f"t-{new_id()[-8:]}"
    status, secret, told = run(capsys, "admin", "token", name, "--scopes", "read,record", "--projects", admin.name)
    assert status == 0 and token_form.is_whole(secret.strip())
    assert told.startswith(f"Token {name} (read, record; until ")
    row = next(line for line in run(capsys, "admin", "tokens")[1].splitlines() if line.startswith(name))
    assert "read, record" in row and admin.name in row
    assert "without an end" in run(capsys, "admin", "token", f"{name}-b", "--no-end")[2]
    status, _, told = run(capsys, "admin", "token", "nightly", "--machine-of", admin.name)
    assert status == 2 and "Say what the machine's token is for, with --scopes: read, record" in told
    assert run(capsys, "admin", "token", "nightly", "--machine-of", admin.name, "--scopes", "record")[0] == 0
    assert "nightly" in run(capsys, "admin", "tokens", "--machine-of", admin.name)[1]
    assert run(capsys, "admin", "revoke-token", "nightly", "--machine-of", admin.name)[1] == "Revoked nightly.\n"
    assert run(capsys, "admin", "tokens", "--machine-of", admin.name)[1] == "There are none.\n"
    for one in (name, f"{name}-b"):
        assert run(capsys, "admin", "revoke-token", one)[0] == 0
    status, _, told = run(capsys, "admin", "token", "x", "--scopes", "write")
    assert status == 2 and "Unknown scope 'write'. Choose from: read, record" in told


def test_a_projects_life(admin: Project, capsys: Out) -> None:
    name = f"q-{new_id()[-8:]}"
    assert run(capsys, "admin", "add-project", name, "--open")[0] == 0
    assert f"{name} is open: everybody with an account may read it." in run(capsys, "admin", "project", name)[1]
    assert "closed: members only; archived since" in run(capsys, "admin", "project", name, "--closed", "--archive")[1]
    assert "archived" not in run(capsys, "admin", "project", name, "--unarchive")[1]
    text = run(capsys, "admin", "project", name, "--rename", f"{name}-b")[1]
    assert text.startswith(f"{name}-b is closed") and f"Earlier names, which lead to it: {name}" in text
    status, _, told = run(capsys, "admin", "delete-project", f"{name}-b", "--confirm", name)
    assert status == 2 and f"Write the project's name, {name}-b, to delete it" in told
    assert (
        "is deleted: nobody sees it."
        in run(capsys, "admin", "delete-project", f"{name}-b", "--confirm", f"{name}-b")[1]
    )
    assert f"{name}-b" in run(capsys, "admin", "deleted-projects")[1]
    assert "is back as it was" in run(capsys, "admin", "restore-project", f"{name}-b")[1]
    run(capsys, "admin", "delete-project", f"{name}-b", "--confirm", f"{name}-b")
    assert (
        "is gone: 0 runs and 0 versions"
        in run(capsys, "admin", "remove-project", f"{name}-b", "--confirm", f"{name}-b")[1]
    )
    assert run(capsys, "admin", "project", name)[0] == 3


def test_the_journal_is_searched_and_written(admin: Project, capsys: Out, tmp_path: Path) -> None:
    admin.begin("tries")
    text = run(capsys, "admin", "journal", "began", "--project", admin.name)[1]
    assert "began" in text and "tries/1" in text and "A Contributor" in text
    assert run(capsys, "admin", "journal", "nothing-like-that")[1] == "Nothing fits.\n"
    assert run(capsys, "admin", "journal", "--since", "2099-01-01")[1] == "Nothing fits.\n"
    assert run(capsys, "admin", "journal", "--since", "yesterday")[0] == 2
    assert "project" in run(capsys, "admin", "journal", "--limit", "3")[1].splitlines()[0]
    target = tmp_path / "journal.jsonl"
    assert run(capsys, "admin", "journal", "--project", admin.name, "-o", str(target))[0] == 0
    assert "began" in {json.loads(line)["act"] for line in target.read_text().splitlines()}
    assert "began" in run(capsys, "admin", "journal", "--project", admin.name, "-o", "-")[1]


def test_ones_own_account_takes_the_password(admin: Project, capsys: Out, monkeypatch: pytest.MonkeyPatch) -> None:
    name = name_of()
    admin.service().call("POST", "/people", json={"name": name, "full_name": "Noor Adair", "password": PASSWORD})
    made = admin.service().call("POST", "/tokens", json={"name": "laptop", "person": name})
    monkeypatch.setenv("KINETRUM_TOKEN", made["secret"])
    assert run(capsys, "account")[1].startswith(f"Noor Adair ({name})\n")
    lines_in(monkeypatch, "not the password")
    status, _, told = run(capsys, "account", "--full-name", "Somebody Else")
    assert status == 4 and "Name and password do not fit together" in told
    lines_in(monkeypatch, PASSWORD)
    assert run(capsys, "account", "--full-name", "Noor B. Adair", "--time-zone", "Europe/Vienna")[1] == "Changed.\n"
    text = run(capsys, "account")[1]
    assert text.startswith("Noor B. Adair") and "time zone: Europe/Vienna" in text
    lines_in(monkeypatch, PASSWORD, f"fresh {PASSWORD}")
    status, text, _ = run(capsys, "account", "--password", "--revoke-tokens")
    assert status == 0 and "and all tokens are revoked" in text
    assert run(capsys, "account")[0] == 4
