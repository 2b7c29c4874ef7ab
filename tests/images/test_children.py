"""Children of an image are found before it is changed in place."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.containers import make_image, pattern
from tests.oracles import run
from zeroseal.images.children import find_children
from zeroseal.images.create import ContainerSpec


@pytest.mark.parametrize(
    ("kind", "place"),
    [
        ("qcow2", "."),
        ("qcow2", "clones"),
        ("qcow2", "../other"),
        ("vmdk", "."),
        ("vmdk", "clones"),
    ],
)
def test_a_child_beside_in_or_next_to_the_folder_is_found(
    tmp_path: Path, kind: str, place: str
) -> None:
    folder = tmp_path / "templates"
    (folder / place).mkdir(parents=True, exist_ok=True)
    base = make_image(folder / f"base.{kind}", ContainerSpec(kind), pattern())
    make_image(folder / f"stranger.{kind}", ContainerSpec(kind), pattern(2))
    (folder / "notes.txt").write_text("no image")
    (folder / "link").symlink_to(base)
    assert find_children(base) == []
    child = (folder / place).resolve() / f"child.{kind}"
    run("qemu-img", "create", "-q", "-f", kind, "-b", str(base), "-F", kind, child)
    assert [path.resolve() for path in find_children(base)] == [child]
    assert find_children(child) == []


def test_damaged_neighbours_do_not_hide_a_child(tmp_path: Path) -> None:
    base = make_image(tmp_path / "base.qcow2", ContainerSpec("qcow2"), pattern())
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", "base.qcow2", "-F", "qcow2",
        tmp_path / "child.qcow2")  # fmt: skip
    (tmp_path / "a.qcow2").write_bytes(base.read_bytes()[:60])
    (tmp_path / "b.vhdx").write_bytes(b"vhdxfile" + bytes(100))
    (tmp_path / "c.vmdk").write_bytes(b"KDMV" + b"\xff" * 600)
    assert find_children(base) == [tmp_path / "child.qcow2"]
