"""The page of the library, made from the docstrings of ``zeroseal.api``."""

from __future__ import annotations

import ast
import inspect
import re
import textwrap
from pathlib import Path

from zeroseal import api

_EXAMPLE = Path(__file__).resolve().parent.parent / "examples" / "seal_images.py"


def library_page() -> str:
    """What the library offers: the module's text, each function, and a whole example."""
    head, _, code = (api.__doc__ or "").partition("::\n\n")
    block, _, rest = code.partition("\n\nThe command line")
    parts = [
        f"# The library\n\n{_plain(head)}:\n\n```python\n{textwrap.dedent(block).rstrip()}\n```\n"
    ]
    parts.append(f"\nThe command line{_plain(rest).rstrip()}\n\n## Functions\n")
    tree = ast.parse(inspect.getsource(api))
    for node in tree.body:
        if isinstance(node, ast.FunctionDef) and not node.name.startswith("_"):
            parts.append(f"\n### `{node.name}`\n\n```python\n{_signature(node)}\n```\n\n")
            parts.append(_said(inspect.getdoc(getattr(api, node.name)) or ""))
    parts.append(f"\n## A whole program\n\n`examples/{_EXAMPLE.name}`:\n\n")
    parts.append(f"```python\n{_EXAMPLE.read_text()}```\n")
    return "".join(parts)


def _signature(node: ast.FunctionDef) -> str:
    """The head of a function as it stands in the source, one argument a line where it is long."""
    words = ast.unparse(node).partition("\n")[0].removesuffix(":")
    if len(words) < 90:
        return words
    before, _, rest = words.partition("(")
    inside, _, after = rest.rpartition(")")
    arguments = re.split(r", (?![^\[]*\])", inside)
    return f"{before}(\n" + "".join(f"    {argument},\n" for argument in arguments) + f"){after}"


def _said(doc: str) -> str:
    """A docstring with its sections as lists."""
    parts: list[str] = []
    for part in _plain(doc).split("\n\n"):
        title, _, body = part.partition("\n")
        if title in ("Args:", "Returns:", "Raises:"):
            items = [" ".join(item.split()) for item in re.split(r"\n *(?=[\w, ]+: )", "\n" + body)]
            items = [item for item in items if item]
            parts.append(f"{title}\n\n" + "".join(f"- {item}\n" for item in items))
        else:
            parts.append(f"{part}\n")
    return "\n".join(parts)


def _plain(text: str) -> str:
    """Text with the marks of Markdown."""
    return text.replace("``", "`")
