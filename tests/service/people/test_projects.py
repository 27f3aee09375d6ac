"""Projects: open or closed, roles by groups, renamed, archived, deleted in two acts."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import pytest

from kinetrum.core.base import errors
from tests.support.world import ALL_SCOPES, PASSWORD, Instance, Project, Service, new_id


def newcomer(instance: Instance, **fields: object) -> tuple[str, Service]:
    name, admin = f"x-{new_id()[-10:]}", instance.service()
    admin.call("POST", "/people", json={"name": name, "full_name": "Noor Adair", "password": PASSWORD})
    if fields:
        admin.call("PATCH", f"/people/{name}", json=fields)
    return name, instance.service(
        admin.call("POST", "/tokens", json={"name": "t", "person": name, "scopes": ALL_SCOPES})["secret"]
    )


def settings(project: Project, role: str = "maintainer", **fields: object) -> None:
    project.service(role).call("PATCH", project.path("settings"), json=fields)


def test_an_open_project_is_read_by_everybody_and_no_more(instance: Instance, project: Project) -> None:
    _, somebody = newcomer(instance)
    begun = project.begin("tries")
    with pytest.raises(errors.NotFound):
        somebody.get(project.path())
    settings(project, is_open=True)
    assert somebody.get(project.path())["role"] == "viewer"
    assert project.name in {one["name"] for one in somebody.get("/projects")}
    assert somebody.get(project.run_path(begun))["reference"] == "tries/1"
    with pytest.raises(errors.NotAllowed, match="takes a contributor"):
        somebody.call("PUT", project.path("experiments", "tries", "runs", new_id()), json={"started_at": 1})
    # A machine of another project is not everybody.
    other = f"q-{new_id()[-8:]}"
    instance.service().call("POST", "/projects", json={"name": other})
    made = instance.service().call("POST", f"/projects/{other}/tokens", json={"name": "m", "scopes": ["read"]})
    with pytest.raises(errors.NotFound):
        instance.service(made["secret"]).get(project.path())
    settings(project, is_open=False)
    with pytest.raises(errors.NotFound):
        somebody.get(project.path())


def test_a_group_has_a_role_and_the_highest_counts(instance: Instance, project: Project) -> None:
    group, other = f"g-{new_id()[-8:]}", f"g-{new_id()[-8:]}"
    name, somebody = newcomer(instance, groups=[group, other])
    maintainer = project.service("maintainer")
    maintainer.call("PUT", project.path("groups", group), json={"role": "viewer"})
    assert somebody.get(project.path())["role"] == "viewer"
    maintainer.call("PUT", project.path("groups", other), json={"role": "approver"})
    assert somebody.get(project.path())["role"] == "approver"
    maintainer.call("PUT", project.path("members", name), json={"role": "contributor"})
    assert somebody.get(project.path())["role"] == "approver"
    members = {one["name"]: one["role"] for one in maintainer.get(project.path("members"))}
    assert members[name] == "approver"
    listed = maintainer.get(project.path("settings"))
    assert {one["name"]: one["role"] for one in listed["groups"]} == {group: "viewer", other: "approver"}
    assert {one["name"]: one["role"] for one in listed["members"]}[name] == "contributor"
    # Who leaves the group loses what it gave; the role of their own stays.
    instance.service().call("PATCH", f"/people/{name}", json={"groups": [group]})
    assert somebody.get(project.path())["role"] == "contributor"
    maintainer.remove(project.path("members", name))
    assert somebody.get(project.path())["role"] == "viewer"
    maintainer.remove(project.path("groups", group))
    with pytest.raises(errors.NotFound):
        somebody.get(project.path())
    with pytest.raises(errors.InvalidInput, match=r"Unknown role 'king'\. Choose one of: viewer"):
        maintainer.call("PUT", project.path("groups", group), json={"role": "king"})


def test_a_group_of_the_last_maintainer_is_not_taken_away(instance: Instance, project: Project) -> None:
    group = f"g-{new_id()[-8:]}"
    name, ilse = newcomer(instance, groups=[group])
    maintainer, here = project.service("maintainer"), project.path("groups", group)
    maintainer.call("PUT", here, json={"role": "maintainer"})
    # By the group there is somebody else, so that each of the others may go.
    for other in ("a-maintainer", instance.service().get("/session")["name"]):
        ilse.remove(project.path("members", other))
    with pytest.raises(errors.Conflict, match="the last maintainer of"):
        ilse.remove(here)
    with pytest.raises(errors.Conflict, match="the last maintainer of"):
        ilse.call("PUT", here, json={"role": "approver"})
    assert ilse.get(project.path())["role"] == "maintainer"
    # What a group gives is not taken away from one of it as if that had done something.
    with pytest.raises(errors.Conflict, match=f"as one of the group {group}; change the role of group:{group}"):
        ilse.remove(project.path("members", name))
    ilse.call("PUT", project.path("members", "a-viewer"), json={"role": "maintainer"})
    ilse.remove(here)


def test_a_renamed_project_answers_to_both_names(project: Project) -> None:
    """What was recorded, written down and deployed under the old name goes on working; the name is not free."""
    project.begin("tries")
    fresh = f"{project.name}-b"
    settings(project, name=fresh)
    viewer = project.service("viewer")
    for name in (project.name, fresh):
        assert viewer.get(f"/projects/{name}")["name"] == fresh
        assert viewer.get(f"/projects/{name}/experiments/tries/runs/1")["project"] == fresh
    assert project.begin("tries")["reference"] == "tries/2"
    for taken in (project.name, fresh):
        with pytest.raises(errors.Conflict, match="There is, or was, a project"):
            project.service("admin").call("POST", "/projects", json={"name": taken})
    assert project.service("maintainer").get(f"/projects/{fresh}/settings")["earlier_names"] == [project.name]
    # And back again.
    settings(project, name=project.name)
    assert viewer.get(f"/projects/{fresh}")["name"] == project.name
    assert project.service("maintainer").get(project.path("settings"))["earlier_names"] == [fresh]


def test_a_project_takes_no_name_of_another(instance: Instance, project: Project) -> None:
    other = f"q-{new_id()[-8:]}"
    instance.service().call("POST", "/projects", json={"name": other})
    with pytest.raises(errors.Conflict):
        settings(project, name=other)
    with pytest.raises(errors.InvalidInput):
        settings(project, name="Not A Name")


def test_an_archived_project_is_read_and_nothing_is_changed(project: Project) -> None:
    begun = project.begin("tries")
    settings(project, is_archived=True)
    assert project.service("viewer").get(project.run_path(begun))["reference"] == "tries/1"
    assert project.service("viewer").get(project.path())["archived_at"] is not None
    contributor = project.service("contributor")
    for method, path, body in (
        ("PUT", project.path("experiments", "tries", "runs", new_id()), {"started_at": 1}),
        ("POST", project.run_path(begun, "results"), {"results": []}),
        ("POST", project.path("bin"), {"things": ["tries/1"]}),
        ("PATCH", project.path("experiments", "tries"), {"description": "x"}),
    ):
        with pytest.raises(errors.Conflict, match="is archived since 20"):
            contributor.call(method, path, json=body)
    # Who lacks the role is told that, not of the archive.
    with pytest.raises(errors.NotAllowed):
        project.service("viewer").call("POST", project.path("bin"), json={"things": ["tries/1"]})
    settings(project, is_archived=False)
    assert project.begin("tries")["reference"] == "tries/2"


def test_a_project_is_deleted_in_two_acts(instance: Instance, project: Project) -> None:
    begun, kept = project.begin("tries"), project.name
    version = project.generate(begun, b"bytes of a deleted project")
    maintainer, admin = project.service("maintainer"), project.service("admin")
    with pytest.raises(errors.InvalidInput, match=f"Write the project's name, {kept}, to delete it"):
        maintainer.call("POST", project.path("deletion"), json={"confirmed": "yes"})
    with pytest.raises(errors.NotAllowed):
        project.service("approver").call("POST", project.path("deletion"), json={"confirmed": kept})
    maintainer.call("POST", project.path("deletion"), json={"confirmed": kept})
    for role in ("maintainer", "admin"):
        with pytest.raises(errors.NotFound):
            project.service(role).get(project.path())
        assert kept not in {one["name"] for one in project.service(role).get("/projects")}
    assert kept in {one["name"] for one in admin.get("/deleted-projects")}
    with pytest.raises(errors.NotAllowed):
        maintainer.get("/deleted-projects")
    with pytest.raises(errors.Conflict):
        admin.call("POST", "/projects", json={"name": kept})
    admin.call("POST", f"/deleted-projects/{kept}/restoration")
    assert maintainer.get(project.run_path(begun))["reference"] == "tries/1"
    # The second act: the bytes are gone, the name is free, nothing of it is found.
    maintainer.call("POST", project.path("deletion"), json={"confirmed": kept})
    with pytest.raises(errors.NotAllowed):
        maintainer.call("POST", f"/deleted-projects/{kept}/removal", json={"confirmed": kept})
    with pytest.raises(errors.InvalidInput):
        admin.call("POST", f"/deleted-projects/{kept}/removal", json={"confirmed": "yes"})
    freed = admin.call("POST", f"/deleted-projects/{kept}/removal", json={"confirmed": kept})
    assert (freed["freed_bytes"], freed["runs"], freed["versions"]) == (len(b"bytes of a deleted project"), 1, 1)
    assert not (instance.home.store / version["digest"][:2]).joinpath(version["digest"]).exists()
    assert kept not in {one["name"] for one in admin.get("/deleted-projects")}
    with pytest.raises(errors.NotFound):
        admin.call("POST", f"/deleted-projects/{kept}/restoration")
    admin.call("POST", "/projects", json={"name": kept})
    assert admin.get(f"/projects/{kept}")["runs"] == 0


def test_of_two_last_maintainers_one_stays(instance: Instance, project: Project) -> None:
    both = ("a-maintainer", "a-viewer")

    def leave(name: str) -> bool:
        try:
            instance.service().call("PUT", project.path("members", name), json={"role": "viewer"})
        except errors.Conflict:
            return False
        return True

    with ThreadPoolExecutor(2) as many:
        for _ in range(10):
            for name in both:
                instance.service().call("PUT", project.path("members", name), json={"role": "maintainer"})
            with suppress(errors.NotFound):
                instance.service().remove(project.path("members", instance.first_account[0]))
            assert sorted(many.map(leave, both)) == [False, True]


def test_a_project_that_is_brought_back_while_it_is_removed(instance: Instance, project: Project) -> None:
    """Either it is gone, or it is there under its name and the removal says that it ended."""
    for at in range(6):
        name = f"{project.name}-{at}"
        admin = instance.service()
        admin.call("POST", "/projects", json={"name": name})
        for _ in range(15):
            path = f"/projects/{name}/experiments/tries/runs/{new_id()}"
            admin.call("PUT", path, json={"started_at": 1})
        admin.call("POST", f"/projects/{name}/deletion", json={"confirmed": name})

        def act(what: str, name: str = name, at: int = at) -> bool:
            time.sleep(0.02 * at if what == "restoration" else 0)
            body = {"confirmed": name} if what == "removal" else None
            try:
                instance.service().call("POST", f"/deleted-projects/{name}/{what}", json=body)
            except errors.NotFound:
                return False
            return True

        with ThreadPoolExecutor(2) as many:
            removed, restored = many.map(act, ("removal", "restoration"))
        assert removed is not restored
        assert (name in {one["name"] for one in admin.get("/projects")}) is restored
    assert not [one["name"] for one in admin.get("/projects") if one["name"].startswith("~")]
    with pytest.raises(errors.NotFound):
        admin.call("POST", "/deleted-projects/~gone-1/restoration")


def test_what_another_project_rests_on_stays(instance: Instance, project: Project) -> None:
    """A model that was registered elsewhere from its files is fetched there as before."""
    begun = project.begin("tries")
    project.generate(begun, b"handed over", "net")
    admin, other = project.service("admin"), f"q-{new_id()[-8:]}"
    admin.call("POST", "/projects", json={"name": other})
    body = {"id": new_id(), "artifact": f"{project.name}/net@1", "run": f"{project.name}/tries/1", "comment": ""}
    admin.call("POST", f"/projects/{other}/models/night-net/versions", json=body)
    admin.call("POST", project.path("deletion"), json={"confirmed": project.name})
    freed = admin.call("POST", f"/deleted-projects/{project.name}/removal", json={"confirmed": project.name})
    assert freed["freed_bytes"] == 0
    path = f"/projects/{other}/models/night-net/versions/1/files/net.onnx"
    with admin.stream(path) as response:
        assert b"".join(response.iter_bytes()) == b"handed over"
