"""People, tokens, settings, the journal and the instance in the console."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from pathlib import Path

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect

from kinetrum.demo.stand_ins.sign_in_provider import Provider
from kinetrum.demo.stand_ins.starting import CLIENT, SECRET
from tests.console.conftest import Watch
from tests.console.test_console import accessible
from tests.support.world import PASSWORD, Instance, Project, change_rows, new_id, service_process

Visit = Callable[..., Page]


@pytest.fixture
def admin(context: BrowserContext, watch: Watch, instance: Instance) -> Callable[[str], Page]:
    """Sign in as the first account and open an address of the instance."""
    name, password = instance.first_account

    def go(address: str) -> Page:
        change_rows(instance, "DELETE FROM sign_in_failure")
        page = context.new_page()
        watch.follow(page)
        assert page.request.post("/api/v1/session", data={"name": name, "password": password}).ok
        page.goto(address)
        page.get_by_role("heading", level=1).wait_for()
        return page

    return go


def test_somebody_is_invited_chooses_a_password_and_is_put_out(
    admin: Callable[[str], Page], chromium: Browser, instance: Instance, watch: Watch
) -> None:
    name = f"x-{new_id()[-8:]}"
    page = admin("/people")
    page.get_by_role("button", name="Invite somebody").click()
    accessible(page)
    page.get_by_label("Full name").fill("Mara Ostrow")
    page.get_by_label("Name to sign in with").fill(name)
    page.get_by_role("button", name="Make the invitation").click()
    dialog = page.get_by_role("dialog", name="Mara Ostrow is invited")
    link = dialog.locator("p.mono").inner_text()
    assert link.startswith(f"{instance.url}/welcome/kl_")
    dialog.get_by_role("button", name="I have it").click()
    row = page.get_by_role("row").filter(has_text=name)
    expect(row).to_contain_text("invited until")
    accessible(page)
    with chromium.new_context(base_url=instance.url) as elsewhere:
        guest = elsewhere.new_page()
        watch.follow(guest)
        guest.goto(link)
        expect(guest.get_by_role("heading", level=1)).to_have_text("Mara Ostrow, choose your password.")
        accessible(guest)
        guest.get_by_label("Password", exact=False).first.fill(PASSWORD)
        guest.get_by_label("Once more").fill(f"{PASSWORD}x")
        expect(guest.get_by_text("These are two different ones.")).to_be_visible()
        guest.get_by_label("Once more").fill(PASSWORD)
        guest.get_by_role("button", name="Choose it").click()
        expect(guest.get_by_role("heading", level=1)).to_contain_text("Welcome, Mara Ostrow.")
        guest.get_by_role("link", name="Sign in").click()
        guest.get_by_label("Name").fill(name)
        guest.get_by_label("Password").fill(PASSWORD)
        guest.get_by_role("button", name="Sign in").click()
        expect(guest.get_by_role("button", name="Mara Ostrow")).to_be_visible()
        # The stream of changes of who is put out ends, and asks once more.
        watch.allowed |= {401}
        row.get_by_role("button", name=f"Change {name}").click()
        page.get_by_role("button", name="Deactivate").click()
        expect(page.get_by_role("row").filter(has_text=name)).to_contain_text("deactivated")
        guest.reload()
        expect(guest.get_by_role("button", name="Sign in")).to_be_visible()


def test_a_link_that_was_used_says_so(context: BrowserContext, watch: Watch, instance: Instance) -> None:
    watch.allowed |= {404}
    page = context.new_page()
    watch.follow(page)
    page.goto("/welcome/kl_nothing")
    expect(page.get_by_role("heading", level=1)).to_contain_text("This link opens nothing")


def test_ones_own_account(visit: Visit, instance: Instance) -> None:
    change_rows(instance, "DELETE FROM sign_in_failure")
    page = visit("", role="contributor")
    page.get_by_role("button", name="A Contributor").click()
    page.get_by_role("menuitem", name="Your account").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("A Contributor signs in as a-contributor")
    accessible(page)
    name = f"t-{new_id()[-8:]}"
    page.get_by_role("button", name="New token").click()
    page.get_by_role("dialog").get_by_label("Name").fill(name)
    page.get_by_role("checkbox", name="record").uncheck()
    page.get_by_role("button", name="Make the token").click()
    secret = page.get_by_role("dialog").locator("p.mono").inner_text()
    assert secret.startswith("ktm_")
    page.get_by_role("button", name="I have it").click()
    row = page.get_by_role("row").filter(has_text=name)
    expect(row).to_contain_text("read, register, review, place, report")
    expect(row).to_contain_text("never")
    assert instance.service(secret).get("/projects")
    row.get_by_role("button", name=f"Revoke {name}").click()
    expect(page.get_by_role("row").filter(has_text=name)).to_have_count(0)
    page.get_by_label("Time zone").fill("Asia/Tokyo")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Your account is changed.")).to_be_visible()
    page.get_by_label("Time zone").fill("")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("row").filter(has_text="this one")).to_contain_text("127.0.0.1, Chrome on Linux")


def test_a_wrong_present_password_is_said(visit: Visit, watch: Watch, instance: Instance) -> None:
    change_rows(instance, "DELETE FROM sign_in_failure")
    watch.allowed |= {401}
    page = visit("", role="viewer")
    page.goto("/account")
    page.get_by_label("Present password").fill("not the password")
    page.get_by_label("New password").fill(f"fresh {PASSWORD}")
    page.get_by_role("button", name="Change the password").click()
    expect(page.get_by_role("alert")).to_contain_text("Name and password do not fit together")


def test_a_projects_settings(visit: Visit, project: Project) -> None:
    page = visit("/settings", role="maintainer")
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        f"{project.name} is closed to all but members; 5 members."
    )
    accessible(page)
    page.get_by_label("Add a person, or group:NAME").fill("group:growers")
    page.get_by_role("combobox", name="as").select_option("viewer")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("row").filter(has_text="group:growers")).to_be_visible()
    page.get_by_label("Role of a-viewer").select_option("contributor")
    page.get_by_role("button", name="Remove growers").click()
    expect(page.get_by_role("row").filter(has_text="group:growers")).to_have_count(0)
    page.get_by_role("button", name="New token").click()
    page.get_by_role("dialog").get_by_label("Name").fill("nightly")
    page.get_by_role("button", name="Make the token").click()
    page.get_by_role("button", name="I have it").click()
    expect(page.get_by_role("row").filter(has_text="nightly")).to_contain_text("read, record")
    page.get_by_label("Sight").select_option("open")
    expect(page.get_by_role("heading", level=1)).to_contain_text("is open to everybody with an account")
    page.get_by_role("button", name="Put into the archive").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("and archived since")
    page.get_by_role("button", name="Take out of the archive").click()
    fresh = f"{project.name}-b"
    page.get_by_role("textbox", name="Name", exact=False).last.fill(fresh)
    page.get_by_role("button", name="Rename").click()
    expect(page.get_by_text(f"Earlier names lead here too: {project.name}.")).to_be_visible()
    page.wait_for_url(f"**/{fresh}/settings")
    members = {one["name"]: one["role"] for one in project.service("maintainer").get(project.path("members"))}
    assert members["a-viewer"] == "contributor"
    page.get_by_role("button", name="Delete the project").click()
    page.get_by_label(f"Write {fresh} to go on").fill(fresh)
    page.get_by_role("button", name="Delete it").click()
    page.wait_for_url("**/projects**")


def test_a_projects_secrets(visit: Visit, project: Project) -> None:
    page = visit("/settings", role="maintainer")
    for at, value in enumerate(("xanthous", "vermilion")):
        page.get_by_role("button", name="Change pipeline" if at else "New secret").click()
        dialog = page.get_by_role("dialog")
        if not at:
            dialog.get_by_label("Name").fill("pipeline")
        dialog.get_by_label("Value").fill(value)
        accessible(page)
        dialog.get_by_role("button", name="Set it").click()
        expect(dialog).to_have_count(0)
        row = page.get_by_role("table", name="Secrets").get_by_role("row").filter(has_text="pipeline")
        expect(row).to_contain_text("by A Maintainer")
        assert value not in page.content()
    page.get_by_role("button", name="Remove pipeline").click()
    expect(page.get_by_role("table", name="Secrets")).to_have_count(0)


def test_settings_are_for_maintainers(visit: Visit, watch: Watch, project: Project) -> None:
    watch.allowed |= {403}
    page = visit("", role="contributor")
    expect(page.get_by_role("link", name="Settings")).to_have_count(0)
    page.goto(f"/{project.name}/settings")
    expect(page.get_by_role("alert")).to_contain_text("takes a maintainer")


def test_the_journal_is_searched_and_taken_along(visit: Visit, project: Project) -> None:
    project.begin("tries")
    page = visit("/journal", role="maintainer")
    expect(page.get_by_role("row").filter(has_text="run:tries/1")).to_contain_text("A Contributor")
    accessible(page)
    page.get_by_label("Find in the journal").fill("nothing-like-that")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Nothing has “nothing-like-that” in it.")
    page.get_by_label("Find in the journal").fill("began")
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "1 entry by one person; the latest: A Contributor began"
    )
    with page.expect_download() as taken:
        page.get_by_role("link", name="JSON Lines").click()
    assert '"act":"began"' in taken.value.path().read_text()


def test_the_instance_and_a_deleted_project(admin: Callable[[str], Page], project: Project) -> None:
    project.service("maintainer").call("POST", project.path("deletion"), json={"confirmed": project.name})
    page = admin("/instance")
    expect(page.get_by_role("heading", level=1)).to_contain_text("runs in")
    expect(page.get_by_role("table", name="State")).to_contain_text("MariaDB")
    accessible(page)
    row = page.get_by_role("row").filter(has_text=project.name)
    row.get_by_role("button", name="Bring back").click()
    expect(page.get_by_text(f"{project.name} is back.")).to_be_visible()
    assert project.service("viewer").get(project.path())["name"] == project.name
    page.goto("/journal")
    expect(page.get_by_role("row").filter(has_text="brought the project back").first).to_be_visible()


def test_an_administrator_sets_a_quota(admin: Callable[[str], Page], visit: Visit, project: Project) -> None:
    page = admin(f"/{project.name}/storage")
    page.get_by_role("button", name="Quota").click()
    accessible(page)
    page.get_by_label("Stored files, GB").fill("1.5")
    page.get_by_label("Runs a day").fill("20")
    page.get_by_role("button", name="Set the quota").click()
    rows = page.get_by_role("table", name="Quota").get_by_role("row")
    expect(rows.filter(has_text="runs counted today")).to_contain_text("0 of 20")
    assert project.service("viewer").get(project.path("storage"))["quota"] == {
        "size_bytes": 1_500_000_000,
        "runs_a_day": 20,
        "points_a_day": None,
    }
    page.get_by_role("button", name="Quota").click()
    expect(page.get_by_label("Stored files, GB")).to_have_value("1.5")
    page.get_by_label("Stored files, GB").fill("")
    page.get_by_label("Runs a day").fill("")
    page.get_by_role("button", name="Set the quota").click()
    expect(rows).to_have_count(0)
    others = visit("/storage", role="maintainer")
    expect(others.get_by_role("link", name="Bin")).to_be_visible()
    expect(others.get_by_role("button", name="Quota")).to_have_count(0)


def test_somebody_signs_in_elsewhere(chromium: Browser, instance: Instance, tmp_path: Path) -> None:
    people = tmp_path / "people.json"
    person = {"sub": new_id(), "preferred_username": f"m{new_id()[-8:]}", "name": "Juno Pell", "groups": []}
    people.write_text(json.dumps([person]))
    provider = Provider(0, people)
    threading.Thread(target=provider.serve_forever, daemon=True).start()
    settings = {
        "KINETRUM_OIDC_ISSUER": provider.issuer,
        "KINETRUM_OIDC_CLIENT": CLIENT,
        "KINETRUM_OIDC_SECRET": SECRET,
        "KINETRUM_OIDC_LABEL": "Sign in with Kestrelfold",
    }
    with service_process(instance, **settings) as (url, _), chromium.new_context(base_url=url) as context:
        page = context.new_page()
        page.goto("/account")
        accessible(page)
        page.get_by_role("link", name="Sign in with Kestrelfold").click()
        page.get_by_role("link", name="Juno Pell").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text(
            f"Juno Pell signs in as {person['preferred_username']}"
        )
        expect(page.get_by_text("Present password")).to_have_count(0)
        page.goto("/?refused=deactivated")
        page.get_by_role("button", name="Juno Pell").click()
        page.get_by_role("menuitem", name="Sign out").click()
        expect(page.get_by_role("button", name="Sign in")).to_be_visible()
        page.goto("/?refused=deactivated")
        expect(page.get_by_role("alert")).to_contain_text("Your account was deactivated here")
        page.goto("about:blank")
    provider.shutdown()
    provider.server_close()
