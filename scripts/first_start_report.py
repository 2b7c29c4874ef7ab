r"""What became of a sealed Windows guest at its first start: a report in Markdown.

``docs/windows-first-start.md`` says how to get there. Run with the tool installed::

    python scripts/first_start_report.py SEALED STARTED > report.md

SEALED is the sealed disk with its record, STARTED the disk of a clone that was started and shut
down. Both are only read. Nothing secret is in the report: identifiers are short hashes, and of
``C:\first-start.txt`` (see the page) only counts and names of event sources are used.
"""

from __future__ import annotations

import hashlib
import re
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from zeroseal.errors import ZeroSealError
from zeroseal.guests.guest import Guest
from zeroseal.guests.system import as_windows
from zeroseal.guests.windows.identity import WindowsFacts
from zeroseal.images.detect import opened_image
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.record import SealRecord, find_record
from zeroseal.traces.load import load_catalogue

_COLLECTED, _LONGEST = "/first-start.txt", 8 << 20
# the sections that the page's command writes, and what of each is counted
_SECTIONS = {
    "chkdsk": r"(?im)^.*\b(no problems|found problems|cannot continue|errors? found)\b",
    "errors": r"(?m)^\s*Source:\s*([\w .-]+)",
    "services that did not start": r"(?m)^\s*STATE\s*:\s*\d+\s+(STOPPED)",
}
_QUESTIONS = (
    "Did it come up by itself, without a question or an error on the screen? If not: a photograph.",
    "Which account could log in, and how (console, Remote Desktop, SSH)?",
    "What did `sfc /verifyonly` report, if you ran it (it takes a quarter of an hour)?",
    "Did the machine get an address, and does another clone get another?",
    "Does activation work as it does on a machine that was installed by hand?",
    "Which applications had to be set up again?",
)


def main(words: list[str]) -> int:
    """Prints the report."""
    if len(words) != 2:
        print(__doc__, file=sys.stderr)
        return 2
    sealed, started = map(Path, words)
    try:
        record = find_record(sealed)
        if record is None:
            print(f"there is no seal record beside {sealed}", file=sys.stderr)
            return 2
        print("\n".join(report(sealed, started, record)))
    except ZeroSealError as error:
        print(error.message, file=sys.stderr)
        return error.exit_status
    return 0


def report(sealed: Path, started: Path, record: SealRecord) -> Iterator[str]:
    """The lines of the report."""
    before, _found, _volumes, _said = _look(sealed)
    after, regrown, volumes, said = _look(started)
    yield f"# First start of {after.name}, build {after.build}"
    yield ""
    yield f"Sealed with zeroseal {record.tool_version}; the start was to be: "
    yield f"{before.identity.first_start.value}."
    yield ""
    yield "## Identity"
    yield ""
    yield "| what | sealed | started | |"
    yield "| --- | --- | --- | --- |"
    for what, old, new in (
        ("security identifier", before.identity.sid, after.identity.sid),
        ("machine GUID", before.identity.machine_guid, after.identity.machine_guid),
        ("update client", before.identity.update_id, after.identity.update_id),
        ("computer name", before.host_name, after.host_name),
    ):
        state = "the same" if old == new else "new" if new else "gone"
        yield f"| {what} | {_short(old)} | {_short(new)} | {state} |"
    yield ""
    yield "## What was removed, and is there again"
    yield ""
    yield "| trace | there again | what was to make it |"
    yield "| --- | --- | --- |"
    traces = {trace.id: trace for trace in load_catalogue()}
    for item in record.treated:
        if item.trace in traces:
            again = "yes" if item.trace in regrown else "no"
            yield f"| `{item.trace}` | {again} | {traces[item.trace].regrowth.by} |"
    yield ""
    yield "## Volumes"
    yield ""
    yield from volumes
    yield ""
    yield "## What the guest itself found"
    yield ""
    yield from said
    yield ""
    yield "## Please answer"
    yield ""
    yield from (f"{number}. {text}" for number, text in enumerate(_QUESTIONS, 1))


def _look(path: Path) -> tuple[WindowsFacts, set[str], list[str], list[str]]:
    """(system, ids of the traces that are there, a line a volume, what the guest found)."""
    with opened_image(path) as image:
        inspection = Inspection.read(image)
        system = as_windows(inspection.system)
        if system is None:
            raise ZeroSealError(f"{path} holds no Windows")
        findings = inspection.find_all(DEFAULT_POLICY)
        lines = [
            f"- {state.volume}: {state.against_changing or 'closed and clean'}"
            for state in inspection.volume_states()
        ]
        found = {finding.trace.id for finding in findings}
        return system.windows_facts, found, lines, list(_said(inspection.guest))


def _said(guest: Guest) -> Iterator[str]:
    """What the commands of the page wrote, without names of people and machines."""
    if not guest.is_file(_COLLECTED):
        yield f"Nothing: {_COLLECTED} was not found. Was the command of step 5 run?"
        return
    raw = guest.read_file(_COLLECTED, _LONGEST)
    text = raw.decode("utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8", "replace")
    for name, pattern in _SECTIONS.items():
        part = re.search(rf"(?s)== {name} ==(.*?)(?=\n== |\Z)", text)
        counts = Counter(re.findall(pattern, part[1])) if part else Counter[str]()
        listed = ", ".join(f"{item.strip()} ({count})" for item, count in counts.most_common(12))
        missing = "nothing" if part else "not run"
        yield f"- {name}: {listed or missing}"


def _short(text: str) -> str:
    return hashlib.sha256(text.lower().encode()).hexdigest()[:8] if text else "none"


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
