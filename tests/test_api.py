"""The library: typed results, a progress callback, no terminal; and the example that uses it."""

import ast
import runpy
import subprocess
import sys
from pathlib import Path

import pytest

import zeroseal
from zeroseal import api

ROOT = Path(__file__).parent.parent


def test_an_image_is_surveyed_planned_sealed_checked_and_compared(
    demo_disk: Path, tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    steps: list[api.Step] = []
    surveyed = api.survey(demo_disk, progress=steps.append)
    assert isinstance(surveyed, api.Survey)
    assert surveyed.findings
    policy = api.make_policy(api.SealOptions(plant_first_boot=True, skip=("keys.ssh-host",)))
    planned = api.plan(demo_disk, policy)
    assert {item.trace.id for item in planned.plan.skipped} >= {"keys.ssh-host"}
    target = tmp_path / "sealed.qcow2"
    result = api.seal(demo_disk, api.NewFile(target), now=1_790_000_000, progress=steps.append)
    assert (result.output.path, result.record) == (target, tmp_path / "sealed.qcow2.seal.json")
    found = api.check(target, api.Level.DEEP, original=demo_disk, with_file=True)
    assert found.verdict is api.Verdict.SEALED
    assert found.file_answer is not None
    rehearsed = api.seal(demo_disk, api.Rehearsal())
    assert rehearsed.would_seal
    assert api.compare([demo_disk, target]).are_unique  # but for what clones share by design
    assert len({step.stage for step in steps}) > 3
    assert capfd.readouterr() == ("", "")


def test_errors_are_ours_and_say_whose_fault_it_is(tmp_path: Path) -> None:
    with pytest.raises(api.ZeroSealError) as caught:
        api.survey(tmp_path / "none.qcow2")
    assert (caught.value.code, "none.qcow2" in caught.value.message) == ("missing", True)
    with pytest.raises(api.ZeroSealError, match=r"the trace 'no\.such' is not known"):
        api.make_policy(api.SealOptions(skip=("no.such",)))


def test_progress_can_end_the_work_and_nothing_is_left(demo_disk: Path, tmp_path: Path) -> None:
    class EnoughError(Exception):
        pass

    def stop(step: api.Step) -> None:
        if "writing" in step.stage:
            raise EnoughError

    with pytest.raises(EnoughError):
        api.seal(demo_disk, api.NewFile(tmp_path / "x.qcow2"), progress=stop)
    assert list(tmp_path.iterdir()) == []


def test_every_name_is_there_and_the_command_line_uses_them() -> None:
    assert all(hasattr(api, name) for name in api.__all__)
    with pytest.raises(AttributeError):
        _ = api.NoSuchThing
    used = set()
    for path in Path(zeroseal.__file__).parent.glob("cli/*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Attribute) and ast.unparse(node.value) == "api":
                used.add(node.attr)
    assert used >= {"survey", "survey_tree", "plan", "seal", "check", "check_tree", "compare"}


def test_the_library_loads_little_until_it_is_used() -> None:
    code = "import sys, zeroseal.api; print(sum('zeroseal' in name for name in sys.modules))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert int(done.stdout) < 12


def test_the_example_seals_a_folder(
    demo_disk: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    images, sealed = tmp_path / "in", tmp_path / "out"
    images.mkdir()
    sealed.mkdir()
    (images / "gate.qcow2").write_bytes(demo_disk.read_bytes())
    (images / "no.qcow2").write_bytes(b"nothing")
    main = runpy.run_path(str(ROOT / "examples/seal_images.py"))["main"]
    assert main(images, sealed, ()) == 1
    told = capsys.readouterr().out
    assert "gate.qcow2: SEALED" in told
    assert "no.qcow2: unsupported:" in told or "no.qcow2: " in told
