"""The catalogue of messages: each can be filled in, is used, and reads plainly."""

import ast
import importlib
import pkgutil
import re
import string
from collections.abc import Iterator
from pathlib import Path

import pytest

import zeroseal
from zeroseal import messages

SOURCE = Path(zeroseal.__file__).parent
MODULES = sorted(module.name for module in pkgutil.iter_modules(messages.__path__))
NUMBERS = "oxXdeEfF,%"
# what a native engineer would have to read twice
IDIOM = re.compile(
    r"\ba Windows\b(?! (guest|system|computer|service|volume|install|desktop|server|clone))"
    r"|\bis none\b|\bare none\b"
    r"|there is not\b|which there|\bhangs? on\b|\bnot even that\b|\banew\b|\btold\b|\btells\b"
    r"|(?<!here )\bis no (?!longer)[a-z]+\b|exists already\b",
)


def sentences() -> Iterator[tuple[str, str, str]]:
    """Module, constant and text of every message."""
    for name in MODULES:
        module = importlib.import_module(f"zeroseal.messages.{name}")
        for constant, text in vars(module).items():
            if constant.isupper():
                yield name, constant, text


def placeholders(text: str) -> dict[str, object]:
    """A value for each placeholder, of a type that its format allows."""
    parts = [part for part in string.Formatter().parse(text) if part[1]]
    return {str(name): 7 if set(spec or "") & set(NUMBERS) else name for _, name, spec, _ in parts}


@pytest.mark.parametrize("module", MODULES)
def test_every_message_can_be_filled_in_and_reads_plainly(module: str) -> None:
    rows = [(constant, text) for name, constant, text in sentences() if name == module]
    assert rows
    for constant, text in rows:
        rendered = text.format(**placeholders(text)) if "{" in text else text
        assert not re.search(r"[{}]|  |\s$|^\s", rendered), (constant, rendered)
        assert not IDIOM.search(rendered), (constant, rendered)
    texts = [re.sub(r"{\w+", "{", text) for _constant, text in rows]
    assert len(texts) == len(set(texts)), "one sentence, one constant"


def uses() -> Iterator[tuple[Path, str, str, ast.AST | None]]:
    """File, module, constant and the call to ``format`` of every use of a message."""
    for path in sorted(SOURCE.rglob("*.py")):
        tree = ast.parse(path.read_text())
        module = next(
            (
                alias.name
                for node in ast.walk(tree)
                if isinstance(node, ast.ImportFrom) and node.module == "zeroseal.messages"
                for alias in node.names
            ),
            "",
        )
        calls = {
            id(node.func.value): node
            for node in ast.walk(tree)
            if isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and node.func.attr == "format"
        }
        for node in ast.walk(tree):
            constant = node.attr if isinstance(node, ast.Attribute) else ""
            if constant.isupper() and ast.unparse(node) == f"messages.{constant}":
                yield path, module, constant, calls.get(id(node))


def test_every_message_is_used_with_just_its_placeholders() -> None:
    texts = {(module, constant): text for module, constant, text in sentences()}
    used = set()
    for path, module, constant, call in uses():
        used.add((module, constant))
        wanted = set(placeholders(texts[module, constant]))
        given = {keyword.arg for keyword in call.keywords} if isinstance(call, ast.Call) else set()
        assert given == wanted, (path.name, constant)
    assert used == set(texts)


def test_no_sentence_is_raised_that_is_not_in_the_catalogue() -> None:
    loose = []
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Raise) or not isinstance(node.exc, ast.Call):
                continue
            name = ast.unparse(node.exc.func)
            if name in ("AssertionError", "TypeError"):  # bugs of ours
                continue
            for part in node.exc.args[:1]:
                pieces = part.values if isinstance(part, ast.JoinedStr) else [part]
                text = " ".join(ast.unparse(p) for p in pieces if isinstance(p, ast.Constant))
                if len(re.findall(r"[a-z]{2,}", text)) > 2:
                    loose.append(f"{path.name}:{node.lineno}: {text}")
    assert loose == []
