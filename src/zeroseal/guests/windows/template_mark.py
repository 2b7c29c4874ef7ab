r"""The mark of a template: by it a later look knows identifiers that a seal made.

A seal that puts a random identifier in the place of another leaves a short hash of it under
``SOFTWARE\Zero Seal``. Whoever gives a clone an identifier of its own takes the mark away.
"""

from __future__ import annotations

import hashlib

from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.hive import Value
from zeroseal.guests.registry.paths import CONFIG_FOLDER, Registry

SOFTWARE_FILE = f"{CONFIG_FOLDER}/SOFTWARE"
_KEY, _VALUE = "Zero Seal", "Issued"


def is_marked(registry: Registry, identifier: str) -> bool:
    """Whether a seal made an identifier."""
    for _found, value in registry.values(f"SOFTWARE\\{_KEY}", _VALUE):
        listed = value_types.typed(value)
        return isinstance(listed, list) and _short_hash(identifier) in listed
    return False


def mark(editor: HiveEditor, identifier: str) -> None:
    """Notes that a seal made an identifier.

    Args:
        editor: of the hive ``SOFTWARE``.
        identifier: a SID or a GUID.
    """
    key = editor.add_key(editor.root, _KEY)
    found = editor.get_value(key, _VALUE)
    listed = value_types.typed(Value(_VALUE, *found)) if found else []
    known = listed if isinstance(listed, list) else []
    content = value_types.pack(value_types.MULTI_SZ, [*known, _short_hash(identifier)])
    editor.set_value(key, _VALUE, value_types.MULTI_SZ, content)


def unmark(editor: HiveEditor) -> None:
    """Takes the mark away."""
    key = editor.find_key(_KEY)
    if key is not None:
        editor.delete_key(key)


def _short_hash(identifier: str) -> str:
    return hashlib.sha256(identifier.lower().encode()).hexdigest()[:16]
