"""Random edits of a file system against a plain model, for every file system that is changed."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

from zeroseal.filesystems.tree import EditableTree, FileTree, Kind

Path_ = tuple[bytes, ...]
Tree = dict[Path_, bytes | tuple[bytes] | None]  # a folder is None, a link a tuple
WAYS = "create create create folder link many remove remove tree replace cut rename hard"
SIZES = (0, 1, 100, 4096, 5000, 70_000, 300_000)


def dump(tree: FileTree, node: int | None = None, path: Path_ = ()) -> Tree:
    found: Tree = {}
    for entry in tree.list_folder(tree.root if node is None else node):
        own = (*path, entry.name)
        if entry.kind is Kind.FOLDER:
            found[own] = None
            found |= dump(tree, entry.node, own)
        elif entry.kind is Kind.LINK:
            found[own] = (tree.read_link(entry.node),)
        elif entry.kind is Kind.FILE:
            found[own] = tree.read_file(entry.node)
    return found


@dataclass
class Model:
    """What the tree should hold, and the same done to an editor."""

    editor: EditableTree
    chance: random.Random
    tree: Tree = field(default_factory=dict)
    ways: str = WAYS

    def node(self, path: Path_) -> int:
        node = self.editor.root
        for name in path:
            entry = self.editor.find_child(node, name)
            assert entry is not None
            node = entry.node
        return node

    def some(self, *kinds: type) -> Path_ | None:
        fitting = [path for path, value in self.tree.items() if isinstance(value, kinds)]
        return self.chance.choice(fitting) if fitting else None

    def some_folder(self) -> Path_:
        return self.chance.choice([(), *(p for p, value in self.tree.items() if value is None)])

    def step(self) -> None:
        way = self.chance.choice(self.ways.split())
        name = f"n{self.chance.randrange(10**6)}".encode() + b"x" * self.chance.randrange(60)
        getattr(self, f"_{way}")(self.some_folder(), name)

    def _create(self, folder: Path_, name: bytes) -> None:
        content = self.chance.randbytes(self.chance.choice(SIZES))
        self.editor.create_file(self.node(folder), name, content, 0o644, 7, 70_000)
        self.tree[(*folder, name)] = content

    def _folder(self, folder: Path_, name: bytes) -> None:
        self.editor.create_folder(self.node(folder), name, 0o755)
        self.tree[(*folder, name)] = None

    def _link(self, folder: Path_, name: bytes) -> None:
        target = b"t" * self.chance.choice([1, 50, 200, 500, 1000])
        self.editor.create_link(self.node(folder), name, target)
        self.tree[(*folder, name)] = (target,)

    def _many(self, folder: Path_, name: bytes) -> None:
        for number in range(self.chance.choice([5, 60, 400])):
            own = name + b"-%d" % number
            self.editor.create_file(self.node(folder), own, b"", 0o600)
            self.tree[(*folder, own)] = b""

    def _remove(self, _folder: Path_, _name: bytes) -> None:
        path = self.some(bytes, tuple)
        if path:
            self.editor.remove(self.node(path[:-1]), path[-1])
            del self.tree[path]

    def _tree(self, _folder: Path_, _name: bytes) -> None:
        path = self.some(type(None))
        if path and self.chance.random() < 0.5:
            self.editor.remove_tree(self.node(path[:-1]), path[-1])
            self.tree = {p: v for p, v in self.tree.items() if p[: len(path)] != path}

    def _change(self, path: Path_, content: bytes) -> None:
        """Sets what all names of one file hold."""
        node = self.node(path)
        for other, value in self.tree.items():
            if isinstance(value, bytes) and self.node(other) == node:
                self.tree[other] = content

    def _replace(self, _folder: Path_, _name: bytes) -> None:
        path = self.some(bytes)
        if path:
            content = self.chance.randbytes(self.chance.choice(SIZES))
            self.editor.replace_content(self.node(path), content)
            self._change(path, content)

    def _cut(self, _folder: Path_, _name: bytes) -> None:
        path = self.some(bytes)
        if path:
            size = self.chance.choice([0, 1, 4096, 5000, 80_000])
            self.editor.truncate(self.node(path), size)
            before = self.tree[path]
            assert isinstance(before, bytes)
            self._change(path, before[:size].ljust(size, b"\0"))

    def _rename(self, _folder: Path_, name: bytes) -> None:
        path = self.some(bytes)
        if path:
            self.editor.rename(self.node(path[:-1]), path[-1], name)
            self.tree[(*path[:-1], name)] = self.tree.pop(path)

    def _rights(self, _folder: Path_, _name: bytes) -> None:
        path = self.some(bytes)
        if path:
            self.editor.set_mode(self.node(path), 0o640)
            self.editor.set_owner(self.node(path), 5, 6)
            facts = self.editor.get_facts(self.node(path))
            assert (facts.mode, facts.uid, facts.gid) == (0o640, 5, 6)

    def _hard(self, folder: Path_, name: bytes) -> None:
        path = self.some(bytes)
        if path:
            self.editor.add_name(self.node(folder), name, self.node(path))
            self.tree[(*folder, name)] = self.tree[path]
