"""How a plan and a finished seal look on a terminal."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.sentences import counted, some_of
from zeroseal.traces.finding import by_trace
from zeroseal.traces.load import catalogue_digest, load_catalogue
from zeroseal.traces.model import SEAL_FAMILIES

if TYPE_CHECKING:
    from zeroseal.sealing.job import PlannedSeal, SealResult
    from zeroseal.sealing.plan import Plan
    from zeroseal.sealing.policy import Policy
    from zeroseal.sealing.proof import Proof
    from zeroseal.sealing.residue import Residue
    from zeroseal.sealing.targets.rehearsal import Rehearsed
    from zeroseal.sealing.what_stays import WhatStays


def show_plan(
    planned: PlannedSeal,
    output: Path | None,
    console: Console,
    every_place: bool,
    in_place: bool = False,
) -> None:
    """What would be done."""
    plan = planned.plan
    refused = (*plan.readiness.blockers, *plan.guard.lock_outs)
    if refused:
        render.headline(console, "REFUSED", render.BROKEN_STYLE, ": this seal would be refused.")
        render.bullets(console, refused)
    else:
        count = len(plan.treated)
        rest = f" on {planned.system.name}; nothing has been changed"
        render.headline(console, f"Plan for {count} findings", render.FINDING_STYLE, rest)
    _show_treated(plan, console, "Would be treated", every_place, hints=True)
    if plan.planted_files:
        render.section(console, "Would be planted")
        render.items(console, plan.planted_files)
    if not plan.is_complete:
        console.print()
        console.print(_partial_sentence(plan))
    if not refused:
        target = ["--in-place"] if in_place else ["-o", str(output or "OUT")]
        source = str(planned.source.path)
        named = ["--root", source] if planned.source.is_tree else [source]
        words = ["zeroseal seal", *named, *target, *option_words(plan.policy)]
        title = "Carry it out, in place:" if in_place else "Carry it out, into a new file:"
        render.next_step(console, title, " ".join(words))


def show_rehearsal(
    rehearsal: Rehearsed,
    output: Path | None,
    rules: Path | None,
    console: Console,
    every_place: bool,
) -> None:
    """How a seal would end, with everything that would stop it."""
    plan, left_over = rehearsal.planned.plan, rehearsal.left_over
    system = rehearsal.planned.system.name
    if rehearsal.would_seal:
        rest = f" on {system}. Nothing was written."
        render.headline(console, "This seal would succeed", render.SEALED_STYLE, rest)
    else:
        count = counted(len(left_over), "place")
        rest = f" on {system} would keep removed values or texts. Nothing was written."
        render.headline(console, f"This seal would be refused: {count}", render.BROKEN_STYLE, rest)
        render.section(console, "Found in the result, and not accepted by house rules")
        render.items(console, [f"{item.label}: {item.place} ({item.count})" for item in left_over])
    _show_treated(plan, console, "Would be treated", every_place, hints=True)
    if plan.planted_files:
        render.section(console, "Would be planted")
        render.items(console, plan.planted_files)
    source = str(rehearsal.planned.source.path)
    words = ["zeroseal seal", source, *option_words(plan.policy)]
    if rehearsal.would_seal:
        words[2:2] = ["-o", str(output or "OUT")]
        render.next_step(console, "Carry it out, into a new file:", " ".join(words))
    elif rules:
        words += ["--rehearse", f"--rules {rules}"]
        text = f"Remove the '#' from the lines of your choice in {rules}, and rehearse with them:"
        render.next_step(console, text, " ".join(words))
    else:
        words += ["--rehearse", "--draft-rules RULES.toml"]
        text = "Decide on each place, in house rules that are drafted for it:"
        render.next_step(console, text, " ".join(words))


def _show_tree_result(result: SealResult, console: Console, every_place: bool) -> None:
    """What was done to a folder or an archive, how it is proven, what stays."""
    plan = result.planned.plan
    word, style = "UNSEALED", render.FINDING_STYLE
    if plan.is_complete:
        word, style = "SEALED", render.SEALED_STYLE
    kind = "the folder itself" if result.record is None else "a new archive"
    render.headline(console, word, style, f"  {result.output.path} ({kind})")
    if not plan.is_complete:
        console.print(_partial_sentence(plan))
    console.print(basis_sentence(_searched_in(result.proof), plan.readiness.stays))
    _show_treated(plan, console, "Treated", every_place)
    render.section(console, "Proof")
    count = result.proof.values_searched
    searched = (
        (f"The files were searched for {count} removed values: none is left that matters.")
        if result.proof.level == "deep"
        else "The files were not searched for removed values."
    )
    again = (
        "The catalogue finds none of the treated traces on the result, which was read "
        "again from scratch."
    )
    render.bullets(console, (again, searched, *result.proof.not_searched))
    render.section(console, "Files")
    rows = [("sealed", str(result.output.path))]
    if result.record:
        rows += [
            ("seal record", str(result.record)),
            ("source", f"{result.planned.source.path}: not changed, it still holds everything"),
        ]
    else:
        rows.append(("record", "a folder has none: its former contents were overwritten in place"))
    render.facts(console, rows)
    render.next_step(
        console, "To check it at any time later:", f"zeroseal check --root {result.output.path}"
    )


def show_result(result: SealResult, console: Console, every_place: bool) -> None:
    """What was done, how it is proven, what stays."""
    if result.output.is_tree:
        _show_tree_result(result, console, every_place)
        return
    plan = result.planned.plan
    size = size_text(result.output.allocated_bytes)
    rest = f"  {result.output.path} ({result.output.format_name}, {size})"
    if plan.is_complete:
        render.headline(console, "SEALED", render.SEALED_STYLE, rest)
    else:
        render.headline(console, "UNSEALED", render.FINDING_STYLE, rest)
        console.print(_partial_sentence(plan))
    console.print(basis_sentence(_searched_in(result.proof), plan.readiness.stays))
    _show_treated(plan, console, "Treated", every_place)
    render.section(console, "Proof")
    volumes = ", ".join(result.proof.volumes)
    s = "s" if len(result.proof.volumes) > 1 else ""
    render.bullets(
        console,
        (
            f"The file system{s} of {volumes} {('are' if s else 'is')} consistent.",
            "The catalogue finds none of the treated traces on the result.",
            *_value_sentences(result),
            _read_back_sentence(result),
            *_zeroed_sentence(result),
            *_new_ids_sentence(result),
        ),
    )
    render.section(console, "Files")
    render.facts(
        console,
        [
            ("sealed disk", str(result.output.path)),
            ("seal record", str(result.record)),
            ("source", _source_sentence(result)),
        ],
    )
    command = f"zeroseal check {result.output.path}"
    where = ""
    assert result.record is not None  # only a folder has none
    if result.record.parent.resolve() not in (Path.cwd(), result.output.path.resolve().parent):
        where = f", in {result.record.parent}, where its record lies"  # of a device
    render.next_step(
        console,
        (f"To check it before you make a template of it, and at any time later{where}:"),
        command,
    )


def _value_sentences(result: SealResult) -> list[str]:
    proof = result.proof
    if proof.level != "deep":
        return ["The bytes of the disk were not searched for what was removed."]
    text = f"The disk's bytes were searched for {proof.values_searched} removed values"
    if proof.files_opened:
        text += f", and inside {counted(proof.files_opened, 'compressed file')}"
    if proof.residue:
        places = [f"{item.label} in {item.place}" for item in proof.residue]
        text += f"; these are still there: {'; '.join(places)}."
    else:
        text += ": none is left."
    return [text, *secret_sentences(proof.secrets), *proof.not_searched]


def secret_sentences(secrets: tuple[Residue, ...]) -> list[str]:
    """What files hold that stay, one sentence a kind."""
    kinds = list(dict.fromkeys(item.label for item in secrets))
    return [
        (
            f"A {kind} may stay in {some_of(paths, 6)} (found by its typical "
            "pattern): all clones would share it."
        )
        for kind in kinds
        if (paths := [item.place for item in secrets if item.label == kind])
    ]


def basis_sentence(searched: str, stays: WhatStays) -> str:
    """What a verdict rests on: the catalogue, what was searched, what else stays."""
    catalogue = f"catalogue {catalogue_digest()[:8]} ({len(load_catalogue())} traces)"
    if not stays.is_known:
        left = "unclaimed files and secrets were not looked for"
    elif stays.is_empty:
        left = "no known kind of secret stays"
        left = f"no unclaimed file and {left}" if stays.knows_owners else left
    else:
        left = f"{stays.counts} stay"
    if stays.is_known and not stays.knows_owners:
        left += "; unclaimed files unknown: no package database"
    return f"Based on {catalogue}; {searched}; {left}."


def _searched_in(proof: Proof) -> str:
    if proof.level != "deep":
        return "values were not searched for"
    inside = counted(proof.files_opened, "compressed file")
    more = f" and inside {inside}" if proof.files_opened else ""
    return f"{counted(proof.values_searched, 'value')} searched for in all bytes{more}"


def _is_in_place(result: SealResult) -> bool:
    return result.output.path == result.planned.source.path


def _read_back_sentence(result: SealResult) -> str:
    if _is_in_place(result):
        return (
            "The image's own bytes were read again before the change was committed, and match "
            "the verified disk."
        )
    return "The new file was read back and matches the verified disk exactly."


def _zeroed_sentence(result: SealResult) -> list[str]:
    if not result.zeroed_bytes:
        return []
    return [f"{size_text(result.zeroed_bytes)} of the disk were zeroed as ranges."]


def _new_ids_sentence(result: SealResult) -> list[str]:
    count = len(result.planned.new_ids)
    if not count:
        return []
    return [
        f"{counted(count, 'identity', 'identities')} of partitions and volumes were replaced by "
        "random ones, and what names them in the guest was changed with them."
    ]


def _source_sentence(result: SealResult) -> str:
    if _is_in_place(result):
        return "sealed in place: its former contents are gone; earlier copies of it still hold them"
    return f"{result.planned.source.path}: not changed, it still holds everything"


def _show_treated(
    plan: Plan, console: Console, title: str, every_place: bool, hints: bool = False
) -> None:
    if plan.treated:
        render.section(console, title)
        render.trace_table(console, by_trace(plan.treated), every_place)
    else:
        render.section(console, "Nothing to treat: no chosen trace was found")
    if plan.skipped:
        render.section(console, "Skipped, and still there")
        render.trace_table(console, by_trace(plan.skipped), every_place)
    if plan.guard.assured:
        render.section(console, "Clones")
        render.bullets(console, plan.guard.assured)
    readiness = plan.readiness
    messages = readiness.consequences + readiness.advice + plan.guard.hints
    messages += readiness.hints if hints else ()
    if messages:
        render.section(console, "Good to know")
        render.bullets(console, messages)


def option_words(policy: Policy) -> list[str]:
    """The options of a seal that lead to a policy."""
    return reading_words(policy) + choice_words(policy)


def reading_words(policy: Policy) -> list[str]:
    """The options of a policy that a survey has too."""
    words = [f"--rules {path}" for path in policy.rule_files]
    words += [f"--follow {folder}" for folder in policy.reach.folders]
    if policy.reach.format_name:
        words.append(f"--source-format {policy.reach.format_name}")
    return words + (["--recover-journal"] if policy.options.recover_journal else [])


def choice_words(policy: Policy) -> list[str]:
    """The options of a policy that only a seal has."""
    options = policy.options
    words = [f"--canaries {file}" for file in dict.fromkeys(c.file for c in options.canaries)]
    words += [f"--only {name}" for name in options.only]
    words += [f"--skip {name}" for name in options.skip]
    words += [f"--retain-account {name}" for name in options.retained_accounts]
    words += [f"--remove-account {name}" for name in options.removed_accounts]
    switches = {
        "--keep-root-login": options.keep_root_login,
        "--plant-first-boot": options.plant_first_boot,
        "--plant-fallback-loader": options.plant_fallback_loader,
        "--expect-seed": options.expect_seed,
        "--to-dhcp": options.to_dhcp,
        "--restart-history": options.restart_history,
        "--drop-snapshots": options.drop_snapshots,
        "--seal-snapshots": options.seal_snapshots,
        "--allow-static-address": options.allow_static_address,
        "--same-size-clones": options.same_size_clones,
        "--new-volume-ids": options.new_volume_ids,
        "--reissue-sid": options.reissue_sid,
        "--strict": options.strict,
    }
    return words + [name for name, is_on in switches.items() if is_on]


def _partial_sentence(plan: Plan) -> str:
    left = sorted({item.trace.id for item in plan.skipped if item.trace.family in SEAL_FAMILIES})
    return f"A partial seal is not a seal. Clones would share what stays: {', '.join(left)}."
