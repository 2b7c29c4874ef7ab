"""How a verdict looks on a terminal."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.digest import CHUNK_BYTES
from zeroseal.cli import render
from zeroseal.cli.show_seal import basis_sentence, secret_sentences
from zeroseal.cli.show_what_stays import show_what_stays
from zeroseal.sealing.record import record_path
from zeroseal.sealing.verdict import FileAnswer, Level, Verdict
from zeroseal.sentences import capitalised, clean, counted, some_of
from zeroseal.traces.finding import by_trace

if TYPE_CHECKING:
    from collections.abc import Iterator

    from zeroseal.sealing.broken_seal import BrokenSeal
    from zeroseal.sealing.check import BackingState, CheckResult
    from zeroseal.sealing.gate import GateAnswer

_MOST_CHUNKS = 8
_MOST_NOTED_FILES = 20


def show_check(result: CheckResult, console: Console, every_place: bool) -> None:
    """The verdict with its level, the evidence, what to do."""
    rest = f"  {result.path}  (level {result.level.value})"
    render.headline(console, result.verdict.value, render.VERDICT_STYLES[result.verdict], rest)
    if result.verdict in (Verdict.SEALED, Verdict.CLEAN) or not result.stays.is_empty:
        console.print(_basis(result))
    render.bullets(console, _sentences(result))
    if result.gate:
        _show_gate(result.gate, console)
    if not result.stays.is_empty:
        show_what_stays(result.stays, console)
    if result.broken:
        _show_broken(result.broken, console)
    accepted = set(result.accepted)
    found = [item for item in result.residue if (item.label, item.place) not in accepted]
    if found:
        render.section(console, "Still there")
        render.items(console, tuple(f"{item.label}: {item.place} ({item.count})" for item in found))
    if result.accepted:
        render.section(console, "Accepted at the seal, and still there")
        render.items(console, tuple(f"{value}: {place}" for value, place in result.accepted))
    if result.findings:
        render.section(console, "Findings")
        render.trace_table(console, by_trace(result.findings), every_place)
    if not result.is_tree:
        _show_next(result, console)


def _show_gate(gate: GateAnswer, console: Console) -> None:
    console.print()
    rules = counted(len(gate.rules), "rule")
    if gate.passes:
        render.headline(console, "Passes the gate", render.SEALED_STYLE, f": {rules} kept")
        return
    misses = counted(len(gate.misses), "miss", "misses")
    render.headline(
        console, "Does not pass the gate", render.BROKEN_STYLE, f": {misses} of {rules}"
    )
    render.items(console, tuple(f"{miss.rule}: {miss.sentence}" for miss in gate.misses))


def _sentences(result: CheckResult) -> list[str]:
    sentences = [_sentence(result.reason)]
    record = result.record
    if record and (result.verdict is not Verdict.UNKNOWN or result.error):
        when = datetime.fromtimestamp(record.sealed_at, UTC).strftime("%Y-%m-%d %H:%M UTC")
        sentences.append(f"Sealed {when} with zeroseal {record.tool_version}.")
        if result.signer:
            sentences.append(
                f"The record is signed by {clean(result.signer)}, whose key is trusted."
            )
        elif record.envelope and result.verdict in (Verdict.SEALED, Verdict.UNSEALED):
            sentences.append(
                f"The record is signed by {clean(', '.join(record.envelope.key_ids))}, "
                "but the signature was not verified: name the keys that you trust with "
                "--trusted."
            )
        if record.system_name.startswith("Windows") and result.verdict is Verdict.SEALED:
            from zeroseal.sealing.windows.readiness import OFFLINE_ONLY

            sentences.append(OFFLINE_ONLY)
        if record.retained_accounts:
            sentences.append(f"Retained on purpose: {', '.join(record.retained_accounts)}.")
        if record.keep_root_login:
            sentences.append("Root's login was kept on purpose.")
    sentences += _reach_sentences(result)
    if result.skipped:
        sentences.append(f"Skipped on purpose: {', '.join(result.skipped)}.")
    if result.level is Level.DEEP and result.error is None and not result.changed_chunks:
        sentences += _search_sentences(result)
    if result.changed_chunks:
        sentences.append(_where_changed(result))
    if result.verdict is Verdict.BROKEN_SEAL and result.error:
        sentences.append(f"Its files could not be read: {result.error.message}.")
    if result.broken and result.broken.looks_like:
        sentences.append(f"What this looks like: {result.broken.looks_like}.")
    return sentences


def _basis(result: CheckResult) -> str:
    if result.level is Level.QUICK:
        return "Based on the seal record alone: nothing was looked for (level quick)."
    searched = "all bytes compared with the record" if result.record else "no record"
    if result.level is Level.DEEP:
        searched += f"; {counted(result.values_searched, 'value')} searched for in all bytes"
    return basis_sentence(searched, result.stays)


def _reach_sentences(result: CheckResult) -> Iterator[str]:
    """What was not read, and what else than the disk was looked at."""
    if result.chunks:
        yield (
            "A quick check shows that a machine was started, but it may miss a small change "
            "elsewhere: --level full reads everything."
        )
    if result.other_container:
        yield (f"Only the container differs: {result.other_container}; its disk is the same.")
    if result.file_answer:
        yield _FILE_ANSWERS[result.file_answer]
    if result.backing:
        yield _backing_sentence(result.backing)


_FILE_ANSWERS = {
    FileAnswer.THIS_VERY_FILE: "The file is the very one that was sealed, byte for byte.",
    FileAnswer.WRITTEN_ANEW: "The file was written again since the seal; its disk is the same.",
    FileAnswer.ANOTHER_DISK: "The file is not the one that was sealed: its disk is different.",
    FileAnswer.NOT_KNOWN: "No record says which file was sealed, so it could not be compared.",
}


def _show_broken(broken: BrokenSeal, console: Console) -> None:
    """The files that tell of a change by their times; else what lies in the chunks that differ."""
    if broken.files:
        render.section(console, "Files changed since the seal")
        render.items(console, broken.files)
        if len(broken.files) == _MOST_NOTED_FILES:
            console.print("    and perhaps more")
    elif broken.located:
        render.section(console, "Contents of the chunks that changed")
        texts = [
            f"{chunk.number * CHUNK_BYTES >> 20} MiB: {some_of(chunk.places, 6)}"
            for chunk in broken.located
        ]
        render.items(console, texts)


def _backing_sentence(backing: BackingState) -> str:
    """What a linked clone hangs on."""
    if backing.verdict is Verdict.SEALED:
        return (
            f"It depends on {backing.path}, which is unchanged since it was sealed (level quick)."
        )
    return f"It depends on {backing.path}, which is {backing.verdict.value}: {backing.reason}."


def _search_sentences(result: CheckResult) -> list[str]:
    left = "" if result.residue else ": no removed value was found"
    count = result.values_searched
    if not count:
        return [
            (f"The bytes were searched for the typical patterns of keys, hashes and logs{left}."),
            "Values were not searched for: name the original with --against.",
            *secret_sentences(result.secrets),
        ]
    return [
        (
            f"The bytes were searched for {counted(count, 'value')} of the original, and for the "
            f"typical patterns of keys, hashes and logs{left}."
        ),
        *secret_sentences(result.secrets),
        *result.not_searched,
    ]


def _where_changed(result: CheckResult) -> str:
    offsets = [f"{number * CHUNK_BYTES >> 20} MiB" for number in result.changed_chunks]
    volumes = ", ".join(result.broken.volumes if result.broken else ()) or "no volume"
    return f"Changed at {some_of(offsets, _MOST_CHUNKS)} of the disk, in {volumes}."


def _sentence(text: str) -> str:
    return capitalised(text) + ("" if text.endswith((".", "?", "!")) else ".")


def _show_next(result: CheckResult, console: Console) -> None:
    options = ""
    match result.verdict:
        case Verdict.SEALED:
            return
        case Verdict.CLEAN if result.backing:
            text = "A clone needs no record. To check that it became what its sheet asks for:"
            render.next_step(console, text, f"zeroseal check {result.path} --as SHEET")
            return
        case Verdict.CLEAN:
            where = ", in the folder where you are" if result.path.is_block_device() else ""
            name = record_path(result.path).name
            text = f"Its record would be {name}{where}. To get one, seal the image:"
        case Verdict.UNSEALED if result.residue and not result.findings:
            text = (
                "A seal of this file would treat none of these. Rehearse the seal of the "
                "original, decide on each place in the drafted rules, and seal it with them:"
            )
            command = "zeroseal seal ORIGINAL --rehearse --draft-rules RULES.toml"
            render.next_step(console, text, command)
            return
        case Verdict.UNSEALED if not result.findings and not result.stays.is_empty:
            text = "Remove them on the reference machine, or accept them, and seal it again:"
            command = "zeroseal seal ORIGINAL -o NEW --strict --rules RULES.toml"
            render.next_step(console, text, command)
            return
        case Verdict.UNSEALED:
            text = "Do not create clones of it. Seal it into a new file:"
            if any(item.trace.id == "identity.machine-sid" for item in result.findings):
                options = " --reissue-sid"
        case Verdict.BROKEN_SEAL:
            text = (
                "Do not create clones of it: it may have an identity again. See what is on it now:"
            )
            render.next_step(console, text, f"zeroseal survey {result.path}")
            return
        case Verdict.UNKNOWN:
            text = "See what can be determined without a record:"
            if result.error is None:
                render.next_step(console, text, f"zeroseal check {result.path} --level full")
            return
    render.next_step(console, text, f"zeroseal seal {result.path} -o NEW{options}")
