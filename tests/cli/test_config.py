"""Settings: a file in the folder or above, the person's own, variables, options over all."""

import io
import json
import os
from pathlib import Path

import pytest

from tests.conftest import Answer
from zeroseal.cli.main import main
from zeroseal.cli.settings import FILE_NAME


class Site:
    """A site's folder with a folder in it, where the commands are given; nothing of the host's."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.environ = {"XDG_CONFIG_HOME": str(folder / "own")}

    def __truediv__(self, name: str) -> Path:
        return self.folder / name

    def __call__(self, *words: str | Path) -> Answer:
        out, err = io.StringIO(), io.StringIO()
        status = main([str(word) for word in words], out, err, self.environ)
        return Answer(status, out.getvalue(), err.getvalue())


@pytest.fixture
def site(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Site:
    (tmp_path / "gates").mkdir()
    monkeypatch.chdir(tmp_path / "gates")
    return Site(tmp_path)


def settings(site: Site) -> dict[str, tuple[object, str]]:
    """Value and origin by name."""
    answer = json.loads(site("config", "--show", "--json").out)
    return {item["name"]: (item["value"], item["origin"]) for item in answer["settings"]}


def test_a_later_source_goes_over_those_before_it(site: Site) -> None:
    assert settings(site)["yard"] == ("yard", "")
    own = site / "own/zeroseal/config.toml"
    own.parent.mkdir(parents=True)
    own.write_text('yard = "/srv/own"\nshelf = "~/shelf"\nhost = "simulated"\n')
    (site / FILE_NAME).write_text('yard = "machines"\nrules = ["site.toml"]\n')
    found = settings(site)
    assert found["yard"] == (str(site / "machines"), str(site / FILE_NAME))
    assert found["rules"][0] == [str(site / "site.toml")]
    assert found["shelf"] == (str(Path.home() / "shelf"), str(own))
    assert found["host"] == ("simulated", str(own))
    site.environ["ZEROSEAL_YARD"] = "/srv/yard"
    assert settings(site)["yard"] == ("/srv/yard", "ZEROSEAL_YARD")
    shown = site("config").out
    assert all(text in shown for text in ("/srv/yard", "ZEROSEAL_YARD", "built in"))


def test_commands_use_them_and_an_option_goes_over_all(site: Site) -> None:
    (site / FILE_NAME).write_text('yard = "machines"\nshelf = "stock"\nrules = ["site.toml"]\n')
    (site / "machines").mkdir()
    (site / "other").mkdir()
    assert str(site / "machines") in site("yard", "list").out
    assert str(site / "other") in site("yard", "list", "--yard", site / "other").out
    assert str(site / "stock") in site("shelf", "list").out
    (site / "site.toml").write_text("version = 1\n[allow]\npartial = true\n")
    assert "site.toml" in site("survey", "--show-rules").out


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("yards = 'a'", "yards is wrong: unknown key; did you mean yard?"),
        ("yard = 5", "yard is wrong: it must be a text"),
        ("host = 'cloud'", "host is wrong: it must be one of qemu, libvirt, simulated"),
        ("yard", "is not valid TOML"),
    ],
)
def test_a_wrong_file_is_refused_with_its_place(text: str, told: str, site: Site) -> None:
    (site / FILE_NAME).write_text(text)
    for words in (("config", "--show"), ("yard", "list")):
        answer = site(*words)
        assert (answer.status, told in answer.err) == (2, True), answer.err
        assert str(site / FILE_NAME) in answer.err


def test_a_wrong_variable_is_named(site: Site) -> None:
    site.environ["ZEROSEAL_HOST"] = "cloud"
    assert "ZEROSEAL_HOST: host is wrong" in site("config").err


@pytest.mark.skipif(not hasattr(os, "getuid") or os.getuid() != 0, reason="gives a file away")
def test_a_file_of_another_user_is_refused(site: Site) -> None:
    (site / FILE_NAME).write_text("")
    os.chown(site / FILE_NAME, 65534, 65534)
    answer = site("yard", "list")
    assert (answer.status, "belongs to another user" in answer.err) == (4, True)


def test_the_example_is_a_file_that_is_read(site: Site) -> None:
    text = site("config", "--example").out
    lines = [line.removeprefix("# ") for line in text.split("\n") if " = " in line]
    (site / FILE_NAME).write_text("\n".join(line for line in lines if '""' not in line))
    assert settings(site)["yard"] == (str(site / "yard"), str(site / FILE_NAME))
