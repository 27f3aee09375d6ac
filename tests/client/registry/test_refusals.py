"""Small promises to those who deploy and administer: names that mean one thing, refusals that say all, nothing inside the store."""

from __future__ import annotations

from pathlib import Path

import httpx
import numpy as np
import pytest

import kinetrum
from kinetrum.cli.main import main
from kinetrum.client.transport.sign_in import token_by_sign_in
from kinetrum.core.base import errors
from tests.support.world import PASSWORD, Project

Out = pytest.CaptureFixture[str]
NEEDS_NO_ACCOUNT = {
    f"/api/v1/{path}"
    for path in (
        "health",
        "session",
        "account-links/{secret}",
        "sign-in",
        "sign-in/elsewhere",
        "sign-in/elsewhere/return",
    )
}


def test_a_token_of_a_name_is_one(project: Project) -> None:
    service = project.instance.service()
    body = {"name": f"deploy-{project.name}", "person": "a-viewer"}
    service.call("POST", "/tokens", json=body)
    with pytest.raises(errors.Conflict, match=r"has a token 'deploy-.*' in use; revoke it first"):
        service.call("POST", "/tokens", json=body)
    service.call("DELETE", f"/tokens/{body['name']}", params={"person": "a-viewer"})
    service.call("POST", "/tokens", json=body)
    # A machine connects as often as it likes: each connection has a token of its own.
    first, second = (token_by_sign_in(project.instance.url, "a-viewer", PASSWORD) for _ in range(2))
    assert first != second
    for secret in (first, second):
        assert project.instance.service(secret).get("/projects")


def test_the_last_maintainer_stays(project: Project) -> None:
    service, path = project.service("maintainer"), project.path("members")
    # The administrator made the project and is a maintainer too.
    others = [one["name"] for one in service.get(path) if one["role"] == "maintainer" and one["name"] != "a-maintainer"]
    for person in others:
        service.call("DELETE", f"{path}/{person}")
    for act in (
        lambda: service.call("DELETE", f"{path}/a-maintainer"),
        lambda: service.call("PUT", f"{path}/a-maintainer", json={"role": "viewer"}),
    ):
        with pytest.raises(
            errors.Conflict, match=r"A Maintainer is the last maintainer of .*; make somebody else a maintainer first"
        ):
            act()
    service.call("PUT", f"{path}/a-approver", json={"role": "maintainer"})
    service.call("PUT", f"{path}/a-maintainer", json={"role": "viewer"})
    with pytest.raises(errors.InvalidInput, match="Unknown role 'boss'"):
        project.service().call("PUT", f"{path}/a-viewer", json={"role": "boss"})


def test_a_refusal_names_everything_that_is_wrong(project: Project, raw: httpx.Client) -> None:
    project.registered(1)
    answer = raw.post(project.path("models", "frost-alarm", "stages", "staging", "promotions"), json={"comment": 3})
    detail = answer.json()["detail"]
    assert answer.status_code == 422
    assert [f"{name}:" in detail for name in ("id", "version", "expect", "comment")] == [True] * 4, detail
    stages = [{"asks_approved": "maybe"} for _ in range(12)]
    many = raw.put(project.path("models", "frost-alarm", "ladder"), json={"stages": stages}).json()["detail"]
    assert "stages.0.name: " in many and many.endswith("16 more are wrong."), many


def test_the_interface_says_how_to_sign_in(raw: httpx.Client) -> None:
    schema = raw.get("/openapi.json").json()
    assert schema["components"]["securitySchemes"]["token"] == {
        "type": "http",
        "scheme": "bearer",
        "description": "A client token.",
    }
    for path, operations in schema["paths"].items():
        for operation in operations.values():
            assert ("security" in operation) is (path not in NEEDS_NO_ACCOUNT), path


def test_what_a_run_generated_is_shown_by_its_name(recording: Project, tmp_path: Path, capsys: Out) -> None:
    (tmp_path / "net.bin").write_bytes(b"net")
    with kinetrum.begin("frost-alarm") as run:
        run.generated(tmp_path / "net.bin", name="frost-net", kind="model")
    run.flush()
    assert main(["show", "frost-alarm/1:frost-net"]) == 0
    assert capsys.readouterr().out.startswith("frost-net@1  model, stored")
    assert main(["show", "frost-alarm/1:other"]) == 3
    assert "frost-alarm/1 generated nothing named 'other'" in capsys.readouterr().err
    assert main(["export", "model:frost-alarm", "-o", str(tmp_path / "m.zip")]) == 2
    assert "is a model; models are exported with the whole of their project" in capsys.readouterr().err
    assert not (tmp_path / "m.zip").exists()


def test_a_signature_is_read_from_a_file_that_stays_where_it_is(recording: Project, tmp_path: Path) -> None:
    onnx = pytest.importorskip("onnx")
    helper, kinds = onnx.helper, onnx.TensorProto
    values = [helper.make_tensor_value_info(name, kinds.FLOAT, ["rows", 9]) for name in ("readings", "frost")]
    graph = helper.make_graph([helper.make_node("Relu", ["readings"], ["frost"])], "g", values[:1], values[1:])
    (tmp_path / "net.onnx").write_bytes(helper.make_model(graph).SerializeToString())
    (tmp_path / "broken.onnx").write_bytes(b"\x08 no model")
    found = kinetrum.register(tmp_path / "net.onnx", as_model="m", origin="the cluster", upload=False)
    assert found.signature is not None
    assert [one.text() for one in found.signature.inputs] == ["readings float32 [rows, 9]"]
    assert kinetrum.register(tmp_path / "broken.onnx", as_model="m", origin="x", upload=False).signature is None
    given = kinetrum.register(tmp_path / "net.onnx", as_model="m", origin="x", upload=False, sample=np.zeros((2, 3)))
    assert given.signature is not None and given.signature.source == "sample"
