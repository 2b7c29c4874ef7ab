"""The package: what is in it, that it is reproducible, and that it works where it is installed."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tarfile
import tomllib
import zipfile
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.long import only_long

ROOT = Path(__file__).resolve().parent.parent
PYTHONS = ["3.11", "3.12", "3.13", "3.14"]
# each package that the plain install leaves out, and a command that needs it
LEFT_OUT = [
    ("matplotlib", "pictures", ("report", "{image}", "--png", "report.png")),
    ("matplotlib", "pictures", ("compare", "{image}", "other.qcow2", "--png", "shared.png")),
    ("qemu", "qemu", ("trial", "{sealed}", "--host", "qemu")),
    ("libvirt", "libvirt", ("trial", "{sealed}", "--host", "libvirt")),
]


def build(folder: Path, what: str) -> list[Path]:
    """Builds from a copy of the sources; what was made, by name."""
    copy = folder / "source"
    left_out = shutil.ignore_patterns(".git", ".venv*", "*.egg-info", "__pycache__", ".*_cache")
    shutil.copytree(ROOT, copy, ignore=left_out)
    target = folder / "dist"
    words = [sys.executable, "-m", "build", "--no-isolation", what, "--outdir", str(target)]
    environ = os.environ | {"SOURCE_DATE_EPOCH": "1790000000"}
    done = subprocess.run(words, cwd=copy, env=environ, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return sorted(target.iterdir())


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A wheel of this checkout."""
    return build(tmp_path_factory.mktemp("wheel"), "--wheel")[0]


def test_a_wheel_is_the_same_when_it_is_built_again(wheel: Path, tmp_path: Path) -> None:
    again = build(tmp_path, "--wheel")[0]
    assert again.name == wheel.name
    assert again.read_bytes() == wheel.read_bytes()


def test_a_wheel_holds_all_that_commands_read(wheel: Path) -> None:
    names = set(zipfile.ZipFile(wheel).namelist())
    source = ROOT / "src"
    for path in source.rglob("*"):
        if path.suffix in (".py", ".json", ".toml", ".sh", ".qcow2", ".csv", ".typed"):
            assert path.relative_to(source).as_posix() in names or "egg-info" in str(path)
    data = {name.partition(".data/data/")[2] for name in names}
    shared = [path for path in (ROOT / "share").rglob("*") if path.is_file()]
    assert {path.relative_to(ROOT).as_posix() for path in shared} <= data
    assert sum(item.file_size for item in zipfile.ZipFile(wheel).filelist) < 12e6


def test_a_source_package_is_built_and_holds_the_tests(tmp_path: Path) -> None:
    (package,) = build(tmp_path, "--sdist")
    with tarfile.open(package) as archive:
        names = {name.partition("/")[2] for name in archive.getnames()}
    assert {"pyproject.toml", "README.md", "LICENSE", "src/zeroseal/api.py"} <= names
    assert "share/man/man1/zeroseal-seal.1" in names


def test_the_classifiers_name_the_versions_that_are_tried() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    for version in PYTHONS:
        assert f"Programming Language :: Python :: {version}" in project["classifiers"]
    assert set(project["urls"]) >= {"Homepage", "Documentation", "Source", "Changelog"}


def test_no_extra_is_needed_by_the_plain_install() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    plain = {name.partition(">")[0].partition(";")[0].strip() for name in project["dependencies"]}
    assert not plain & {"matplotlib", "paramiko", "qemu.qmp", "mkdocs", "pytest"}


@pytest.mark.parametrize(("package", "extra", "words"), LEFT_OUT)
def test_a_command_that_lacks_a_package_names_the_extra(
    tmp_path: Path,
    demo_disk: Path,
    zeroseal: Command,
    package: str,
    extra: str,
    words: tuple[str, ...],
) -> None:
    shutil.copy(demo_disk, tmp_path / "other.qcow2")
    (tmp_path / "sitecustomize.py").write_text(f"import sys\nsys.modules[{package!r}] = None\n")
    sealed = tmp_path / "sealed.qcow2"
    assert zeroseal("seal", demo_disk, "-o", sealed, "--quiet").status == 0
    given = [word.format(image=demo_disk, sealed=sealed) for word in words]
    done = subprocess.run(
        [sys.executable, "-m", "zeroseal", *given],
        cwd=tmp_path, env=os.environ | {"PYTHONPATH": str(tmp_path)},
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 5, done.stderr
    assert f"pip install 'zeroseal[{extra}]'" in done.stderr
    assert "Traceback" not in done.stderr
    assert not list(tmp_path.glob("*.png"))


def python(version: str) -> str | None:
    """The interpreter of a version on this machine."""
    found = shutil.which(f"python{version}")
    known = sorted(Path.home().glob(f".pyenv/versions/{version}.*/bin/python"))
    return str(known[-1]) if known else found


@only_long
@pytest.mark.parametrize("version", PYTHONS)
def test_a_wheel_works_in_a_fresh_environment(wheel: Path, tmp_path: Path, version: str) -> None:
    interpreter = python(version)
    if interpreter is None:
        pytest.skip(f"no Python {version} here")
    subprocess.run([interpreter, "-m", "venv", tmp_path / "env"], check=True)
    program = tmp_path / "env/bin"
    subprocess.run([program / "pip", "install", "-q", wheel], check=True)
    subprocess.run([program / "zeroseal", "demo", "--quiet"], cwd=tmp_path, check=True)
    assert (tmp_path / "env/share/man/man1/zeroseal.1").is_file()
