"""Build sheets: includes, overrides, variants, secrets, and errors that name file, line and key."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zeroseal.documents import KeyPath
from zeroseal.errors import MissingError, RefusedError, UsageError
from zeroseal.machines.sheet.lines import find_lines, line_of
from zeroseal.machines.sheet.load import Wishes, load_again, load_sheet, load_sheets
from zeroseal.machines.sheet.secret_values import Secrets, read_secrets

SHEET = """\
version = 1
[machine]
name = "pier"
memory_mib = 512

[origin]
base_disk = "base.qcow2"
sha256 = "{sum}"

[[seed.users]]
name = "shipwright"
admin = true
throwaway = true

[[seed.users]]
name = "ada.brine"
password = "${{secret:ada}}"

[[task]]
name = "one"
run = '''
echo = 1
[not a table]
'''

[[task]]
name = "two"
wait_seconds = 5
""".format(sum="0" * 64)


@pytest.fixture
def sheet(tmp_path: Path) -> Path:
    path = tmp_path / "pier.toml"
    path.write_text(SHEET)
    return path


def with_secret(**values: object) -> Wishes:
    return Wishes(secrets=Secrets({"ada": "not-a-real-password"}), **values)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("before", "after", "told"),
    [
        ("memory_mib = 512", "memory = 512", "pier.toml, line 4: machine.memory is wrong: unknown"),
        (
            "memory_mib = 512",
            'memory_mib = "512"',
            "line 4: machine.memory_mib is wrong: it must be a whole number",
        ),
        ('name = "ada.brine"', 'name = "Ada"', "line 16: seed.users.1.name is wrong"),
        ("throwaway = true\n", "", "tasks over SSH need one account"),
        ("wait_seconds = 5", "", "line 26: task.1 is wrong: give exactly one of run, script"),
        ("wait_seconds = 5", "until = { at_most = 3 }", "task.1.until is wrong: give output or"),
        ("wait_seconds = 5", 'run = "a"\nuntil = { output = "(" }', "not a valid regular"),
        ('base_disk = "base.qcow2"\n', "", "line 6: origin is wrong: give either a base_disk"),
        ('sha256 = "', 'sha512 = "', "line 8: origin.sha512 is wrong"),
        ('name = "pier"', "", "line 2: machine is wrong: give either a name or numbers"),
        ("[machine]", "[machine]\nnetwork.vlan = 5000", "line 3: machine.network.vlan is wrong"),
        ('[[seed.users]]\nname = "s', '[seed.network]\naddresses = ["192.0.2.9"]\n'
         '[[seed.users]]\nname = "s', "line 11: seed.network.addresses.0 is wrong: write the addr"),
        ("[machine]", "[machine", "is not valid TOML"),
    ],
)  # fmt: skip
def test_a_wrong_key_is_told_with_its_file_and_line(
    sheet: Path, before: str, after: str, told: str
) -> None:
    assert before in SHEET
    sheet.write_text(SHEET.replace(before, after, 1))
    with pytest.raises(UsageError) as caught:
        load_sheet(sheet, with_secret())
    assert told in caught.value.message
    assert "not-a-real-password" not in caught.value.message


def test_includes_settings_and_words_are_laid_over_each_other_in_order(
    sheet: Path, tmp_path: Path
) -> None:
    (tmp_path / "all.toml").write_text(
        "[machine]\ncpus = 2\nmemory_mib = 256\n[seed]\ndomain = 'saltmarsh.example'\n"
    )
    sheet.write_text('include = ["all.toml"]\n' + SHEET)
    (tmp_path / "site.toml").write_text("[machine]\nnotes = 'pier 3'\nmemory_mib = 768\n")
    wishes = with_secret(settings=(tmp_path / "site.toml",), sets=("machine.memory_mib=1024",))
    machine = load_sheet(sheet, with_secret()).sheet.machine
    assert (machine.cpus, machine.memory_mib) == (2, 512)
    loaded = load_sheet(sheet, wishes)
    assert (loaded.sheet.machine.memory_mib, loaded.sheet.machine.notes) == (1024, "pier 3")
    assert loaded.sheet.seed.domain == "saltmarsh.example"
    assert load_again(sheet, loaded.settings, "", with_secret()).digest == loaded.digest
    with pytest.raises(UsageError, match=r"all.toml, line 2: machine.cpus is wrong"):
        (tmp_path / "all.toml").write_text("[machine]\ncpus = 0\n")
        load_sheet(sheet, with_secret())
    with pytest.raises(UsageError, match=r"--set machine.cpus=0: machine.cpus is wrong"):
        load_sheet(sheet, with_secret(sets=("machine.cpus=0",)))
    for word in ("machine.cpus", "= 3", "a b=3"):
        with pytest.raises(UsageError, match="is not valid"):
            load_sheet(sheet, with_secret(sets=(word,)))
    assert load_sheet(sheet, with_secret(sets=("machine.notes=pier 4", "machine.cpus=1")))
    (tmp_path / "all.toml").write_text('include = ["pier.toml"]\n')
    with pytest.raises(UsageError, match="includes itself"):
        load_sheet(sheet, with_secret())
    (tmp_path / "all.toml").unlink()
    with pytest.raises(MissingError, match=r"all.toml: no such file"):
        load_sheet(sheet, with_secret())


def test_variants_are_machines_of_their_own(sheet: Path) -> None:
    more = "\n[variant.north]\nmachine.name = 'north'\n[variant.south]\nmachine.name = 'south'\n"
    sheet.write_text(SHEET + more)
    both = load_sheets(sheet, with_secret())
    assert [item.sheet.machine.name for item in both] == ["north", "south"]
    assert both[0].digest != both[1].digest
    assert load_sheet(sheet, with_secret(variants=("south",))).variant == "south"
    with pytest.raises(UsageError, match="several variants"):
        load_sheet(sheet, with_secret())
    with pytest.raises(UsageError, match="no variant 'east'; its variants are north, south"):
        load_sheets(sheet, with_secret(variants=("east",)))
    sheet.write_text(SHEET + more.replace("'south'", "5"))
    line = SHEET.count("\n") + 5
    with pytest.raises(UsageError, match=rf"line {line}: machine.name is wrong"):
        load_sheets(sheet, with_secret())


def test_secrets_come_from_a_private_file_or_the_environment_and_are_redacted(
    sheet: Path, tmp_path: Path
) -> None:
    with pytest.raises(UsageError, match="the secret 'ada', which seed"):
        load_sheet(sheet)
    file = tmp_path / "secrets.toml"
    file.write_text('ada = "from-the-file"\n')
    file.chmod(0o644)
    with pytest.raises(RefusedError, match="chmod 600"):
        read_secrets(file, {})
    file.chmod(0o600)
    assert read_secrets(file, {}).values == {"ada": "from-the-file"}
    secrets = read_secrets(file, {"ZEROSEAL_SECRET_ADA": "from-outside"})
    loaded = load_sheet(sheet, Wishes(secrets=secrets))
    assert loaded.sheet.seed.users[1].password == "from-outside"
    assert secrets.redact("it said from-outside!") == "it said [secret]!"
    assert "from-outside" not in repr(secrets)
    other = load_sheet(sheet, Wishes(secrets=Secrets({"ada": "x"})))
    assert other.digest == loaded.digest  # a new password is no new machine
    file.write_text("ada = 5\n")
    with pytest.raises(UsageError, match=r"the secret 'ada' in .* is not a text"):
        read_secrets(file, {})


def test_a_changed_file_of_a_sheet_is_another_digest(sheet: Path, tmp_path: Path) -> None:
    sheet.write_text(SHEET.replace("wait_seconds = 5", 'script = "go.sh"'))
    (tmp_path / "go.sh").write_text("echo 1\n")
    before = load_sheet(sheet, with_secret()).digest
    (tmp_path / "go.sh").write_text("echo 2\n")
    assert load_sheet(sheet, with_secret()).digest != before


@given(st.lists(st.sampled_from(["a", "b", "c"]), min_size=1, max_size=4), st.integers(0, 3))
def test_every_key_of_a_written_text_has_its_line(names: list[str], blank: int) -> None:
    lines = ["x = '''", "[a]", "a = 1", "'''"]
    wanted: dict[KeyPath, int] = {("x",): 1}
    for number, name in enumerate(names):
        lines += [""] * blank + ["[[t]]", f"{name} = [ 1,", "  '[z]', # ]", "]", "k.l = {m = 2}"]
        wanted[("t", number, name)] = len(lines) - 3
        wanted[("t", number, "k", "l")] = len(lines)
    found = find_lines("\n".join(lines))
    assert {path: found.get(path) for path in wanted} == wanted
    assert line_of(found, ("t", 0, "k", "l", "m")) == (4, wanted[("t", 0, "k", "l")])
