"""Writes the JSON Schemas that the package ships, ``src/zeroseal/schemas/NAME.json``.

Run from the checkout: ``python scripts/make_schemas.py``. ``tests/test_schemas.py`` fails when a
file is not what this makes.
"""

from __future__ import annotations

import json
from pathlib import Path

from zeroseal.cli.settings_file import SettingsFile
from zeroseal.reports.schemas.build import build_schemas

FOLDER = Path(__file__).resolve().parent.parent / "src/zeroseal/schemas"


def files() -> dict[str, str]:
    """File name and text of each schema."""
    schemas = build_schemas({"file-settings": SettingsFile})
    return {f"{name}.json": json.dumps(value, indent=1) + "\n" for name, value in schemas.items()}


def main() -> None:
    """Writes them all, and removes those that are no longer made."""
    made = files()
    FOLDER.mkdir(exist_ok=True)
    for path in FOLDER.glob("*.json"):
        if path.name not in made:
            path.unlink()
    for name, text in made.items():
        (FOLDER / name).write_text(text)


if __name__ == "__main__":
    main()
