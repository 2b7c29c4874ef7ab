"""The JSON Schemas: shipped, current, valid; files that we write and outputs hold to them.

Every other test that asks a command for JSON holds the answer against its schema too (conftest).
"""

import json
import tomllib
from pathlib import Path

import jsonschema
import pytest
from scripts.make_schemas import files

from tests.conftest import Command
from zeroseal.cli.cmd_schema import read_schema, schema_names
from zeroseal.reports.schemas.build import FILES
from zeroseal.reports.schemas.outputs import OUTPUTS

ROOT = Path(__file__).parent.parent


def validate(value: object, name: str) -> None:
    jsonschema.validate(value, json.loads(read_schema(name)))


def test_the_shipped_schemas_are_what_the_models_make() -> None:
    made = files()
    assert sorted(f"{name}.json" for name in schema_names()) == sorted(made)
    for name, text in made.items():
        assert read_schema(name.removesuffix(".json")) == text, "run scripts/make_schemas.py"
    assert {f"{name}.json" for name in {*OUTPUTS, *FILES, "file-settings"}} == set(made)


@pytest.mark.parametrize("name", schema_names())
def test_a_schema_is_valid_and_its_keys_have_one_style(name: str) -> None:
    schema = json.loads(read_schema(name))
    jsonschema.Draft202012Validator.check_schema(schema)
    if name.startswith("file-"):
        return
    for part in (schema, *schema.get("$defs", {}).values()):
        for key in part.get("properties", {}):
            assert "_" not in key, key
            assert key[0].islower(), key
        assert part.get("additionalProperties", False) is False


def test_the_files_of_a_whole_line_hold_to_their_schemas(
    tmp_path: Path, zeroseal: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The demo writes each of them; the outputs of commands on its folder are held too."""
    monkeypatch.chdir(tmp_path)
    assert zeroseal("demo", "--to", "d", "--json").status == 0
    monkeypatch.chdir(tmp_path / "d")
    for path, name in (
        *((path, "file-seal-record") for path in Path().rglob("*.seal.json")),
        *((path, "file-template-entry") for path in Path().rglob("entry.json")),
        *((path, "file-clone-note") for path in Path("shelf").rglob("clones/*.json")),
        *((path, "file-machine-state") for path in Path("yard").rglob("state.json")),
    ):
        validate(json.loads(path.read_text()), name)
    validate(toml("gangway.toml"), "file-build-sheet")
    validate(toml("gates.toml"), "file-clone-sheet")
    for path in Path("yard").rglob("machine.toml"):
        machine = toml(path)
        assert machine.pop("version")
        validate(machine, "file-machine")
    validate(toml(ROOT / "examples/house-rules.toml"), "file-house-rules")
    for path in (ROOT / "src/zeroseal/traces/catalogue").glob("*.toml"):
        validate(toml(path), "file-traces")
    for words in (
        ("shelf", "list"), ("shelf", "show", "gangway"), ("shelf", "verify"), ("yard", "list"),
        ("shelf", "diff", "gangway@2026-10", "gangway@2026-11"), ("yard", "show", "gangway-ref"),
        ("survey", "purser-ref.qcow2"), ("seal", "purser-ref.qcow2", "--rehearse"), ("schema",),
        ("yard", "describe", "gangway-ref"), ("seal", "none.qcow2", "-o", "x"),
        ("trial", "gangway.sealed.qcow2", "--host", "simulated"), ("completion", "bash"),
        ("clone", "gangway", "--name", "west"), ("yard", "remove", "west", "--yes"),
        ("config",), ("config", "--example"), ("traces", "--on", "tideline-4.qcow2"),
        ("report", "gangway.sealed.qcow2", "--html", "r.html"),
        ("export", "gangway.sealed.qcow2", "--format", "raw", "-o", "x.raw"),
        ("survey", "gangway.sealed.qcow2", "purser.sealed.qcow2"),
        ("check", "yard/by-accident/disk.qcow2"),
    ):  # fmt: skip
        assert zeroseal(*words, "--json").out.startswith("{")


def test_a_schema_that_is_not_there_is_named(zeroseal: Command) -> None:
    answer = zeroseal("schema", "chek")
    assert (answer.status, "the schema 'chek' is not known" in answer.err) == (2, True)
    assert json.loads(zeroseal("schema", "check").out)["title"] == "CheckOutput"
    assert "file-seal-record" in zeroseal("schema").out.split()


def toml(path: str | Path) -> dict[str, object]:
    return tomllib.loads(Path(path).read_text())
