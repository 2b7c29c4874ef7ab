"""``zeroseal traces``: the catalogue, and one trace explained."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.options import (
    add_reach,
    add_rules,
    policy_of_site,
    rules_from,
)
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.sealing.policy import Policy
    from zeroseal.traces.model import Trace


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "traces",
        usage="zeroseal traces [ID] [OPTION ...]",
        help="list what is searched for, why, and what regrows it",
        description="Lists the catalogue of traces, or explains one.",
        examples=(
            ("traces --family keys", "all traces of keys"),
            ("traces keys.ssh-host", "explain one"),
            ("traces --on gate.qcow2", "what is found on this image"),
        ),
    )
    parser.add_argument("trace", nargs="?", metavar="ID", help="a trace to explain")
    parser.add_argument(
        "--family",
        action="append",
        default=[],
        metavar="NAME",
        help="list only this family; may be repeated",
    )
    parser.add_argument(
        "--guest",
        choices=("linux", "windows"),
        help="list only traces for guests of this system",
    )
    parser.add_argument(
        "--on",
        type=Path,
        metavar="IMAGE",
        help="list only what is found on this image, with the number of places",
    )
    parser.add_argument("--markdown", action="store_true", help="print the list as Markdown")
    add_reach(parser)
    add_rules(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_traces import show_trace, show_traces
    from zeroseal.reports.as_json import traces_to_json
    from zeroseal.traces.load import load_catalogue, pick_trace
    from zeroseal.traces.model import FAMILIES

    for family in args.family:
        if family not in FAMILIES:
            raise UsageError(
                messages.FAMILY_NOT_KNOWN.format(family=family, families=", ".join(FAMILIES))
            )
    if args.markdown and (args.json or args.on):
        raise UsageError(messages.NOT_WITH_MARKDOWN)
    rules = rules_from(args)
    traces = (*load_catalogue(), *rules.traces)
    if args.trace:
        traces = (pick_trace(args.trace, traces),)
    if args.family:
        traces = tuple(trace for trace in traces if trace.family in args.family)
    if args.guest:
        traces = tuple(trace for trace in traces if trace.guest in ("any", args.guest))
    if args.on:
        return _show_on(args.on, traces, policy_of_site(args), ui)
    if args.markdown:
        from zeroseal.reports.catalogue_page import build_page

        ui.show_text(build_page(traces))
    elif ui.as_json:
        ui.show_json(traces_to_json(traces))
    elif args.trace and traces:
        show_trace(traces[0], ui.console)
    else:
        show_traces(traces, ui.console)
    return 0


def _show_on(image: Path, traces: tuple[Trace, ...], policy: Policy, ui: Ui) -> int:
    """What of the catalogue is found on an image."""
    from zeroseal.cli.show_traces import show_found
    from zeroseal.reports.as_json import traces_to_json
    from zeroseal.sealing.survey import survey_image

    survey = survey_image(image, policy, ui.progress)
    wanted = {trace.id for trace in traces}
    counts: dict[str, int] = {}
    for finding in survey.findings:
        if finding.trace.id in wanted:
            counts[finding.trace.id] = counts.get(finding.trace.id, 0) + 1
    found = tuple(trace for trace in traces if trace.id in counts)
    ui.show(
        lambda: traces_to_json(found, counts),
        lambda out: show_found(found, counts, survey, out),
    )
    return 0
