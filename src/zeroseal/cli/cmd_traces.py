"""``zeroseal traces``: the catalogue, and one trace explained."""

from __future__ import annotations

import argparse

from zeroseal.cli.options import Subparsers, add_common, add_rules, rules_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "traces",
        help="what is looked for, why, and what regrows it",
        description="Lists the catalogue of traces, or explains one.",
    )
    parser.add_argument("trace", nargs="?", metavar="ID", help="a trace to explain")
    parser.add_argument(
        "--family",
        action="append",
        default=[],
        metavar="NAME",
        help="list only this family; may be repeated",
    )
    add_rules(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_traces import show_trace, show_traces
    from zeroseal.reports.as_json import traces_to_json
    from zeroseal.traces.load import load_catalogue, pick_trace
    from zeroseal.traces.model import FAMILIES

    for family in args.family:
        if family not in FAMILIES:
            raise UsageError(f"there is no family {family!r}: there are {', '.join(FAMILIES)}")
    traces = (*load_catalogue(), *rules_from(args).traces)
    if args.trace:
        traces = (pick_trace(args.trace, traces),)
    elif args.family:
        traces = tuple(trace for trace in traces if trace.family in args.family)
    if ui.as_json:
        ui.show_json(traces_to_json(traces))
    elif args.trace:
        show_trace(traces[0], ui.console)
    else:
        show_traces(traces, ui.console)
    return 0
