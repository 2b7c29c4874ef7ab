"""The shelf and its clones as JSON-ready values; see ``docs/json.md``."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeroseal.reports.as_json import Json, check_to_json, head, table_of

if TYPE_CHECKING:
    from zeroseal.sealing.record import SealRecord
    from zeroseal.templates.clone import MadeClone
    from zeroseal.templates.shelf.clone_links import ShelfClone
    from zeroseal.templates.shelf.difference import Change, Difference
    from zeroseal.templates.shelf.entry import Template
    from zeroseal.templates.shelf.sync import Synced
    from zeroseal.templates.shelf.verify import Verified


def template_to_json(
    template: Template, clones: list[ShelfClone], record: SealRecord | None
) -> Json:
    """One template: what it is, what was done to it, and its clones."""
    return (
        head("template")
        | template_table(template)
        | {
            "clones": [table_of(item.noted) | {"hold": item.hold.value} for item in clones],
            "record": _record(record) if record else None,
        }
    )


def shelf_to_json(templates: list[Template], problems: list[str]) -> Json:
    """All templates of a shelf."""
    listed = [template_table(template) for template in templates]
    return head("shelf") | {"templates": listed, "problems": problems}


def verified_to_json(results: list[Verified], problems: list[str]) -> Json:
    """Whether everything on the shelf is what it was."""
    return head("shelf-verification") | {
        "good": not problems and all(not item.problem for item in results),
        "templates": [
            {
                "template": item.template.entry.title,
                "problem": item.problem,
                "check": check_to_json(item.checked),
            }
            for item in results
        ],
        "problems": problems,
    }


def synced_to_json(synced: list[Synced], problems: list[str], dry_run: bool) -> Json:
    """What became of each template of a shelf on another one."""
    return head("shelf-sync") | {
        "dryRun": dry_run,
        "templates": [
            {
                "template": item.template.entry.title,
                "move": item.move.name.lower(),
                "reason": item.reason,
            }
            for item in synced
        ],
        "problems": problems,
    }


def difference_to_json(before: Template, after: Template, difference: Difference) -> Json:
    """What differs between two templates."""
    return head("shelf-difference") | {
        "before": before.entry.title,
        "after": after.entry.title,
        "system": _changes(difference.system),
        "packages": _changes(difference.packages),
        "accounts": _changes(difference.accounts),
        "settings": _changes(difference.settings),
        "files": _changes(difference.files),
    }


def done_to_json(what: str, names: list[str]) -> Json:
    """Something that was done to templates or clones, by name."""
    return head("shelf-change") | {"done": what, "names": names}


def clones_to_json(clones: list[MadeClone]) -> Json:
    """Clones that were made."""
    return head("clones") | {
        "clones": [
            {
                "name": item.machine.definition.name,
                "hostName": item.wish.host_name,
                "folder": str(item.machine.folder),
                "disk": str(item.machine.disk),
                "diskBytes": item.disk_bytes,
                "linked": item.machine.definition.linked,
                "intoDisk": item.wish.row.into_disk,
                "addresses": list(item.wish.row.addresses),
                "definition": table_of(item.machine.definition),
                "messages": list(item.messages),
            }
            for item in clones
        ]
    }


def template_table(template: Template) -> Json:
    """One template, without the head of a result."""
    entry = table_of(template.entry)
    return {"entry": entry, "state": template.state, "disk": str(template.disk)}


def _record(record: SealRecord) -> Json:
    return {
        "sealedAt": record.sealed_at,
        "level": record.level,
        "treated": [table_of(item) for item in record.treated],
        "skipped": list(record.skipped),
        "planted": list(record.planted),
        "retainedAccounts": list(record.retained_accounts),
        "lineage": table_of(record.lineage),
        "signers": list(record.envelope.key_ids) if record.envelope else [],
    }


def _changes(changes: tuple[Change, ...]) -> list[Json]:
    return [table_of(item) for item in changes]
