"""``zeroseal traces``: the catalogue, and one trace explained."""

from __future__ import annotations

import argparse

from zeroseal.cli.options import Subparsers, add_common
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "traces",
        help="what is looked for, why, and what regrows it",
        description="Lists the catalogue of traces, or explains one.",
    )
    parser.add_argument("trace", nargs="?", metavar="ID", help="a trace to explain")
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_traces import show_trace, show_traces
    from zeroseal.reports.as_json import traces_to_json
    from zeroseal.traces.load import get_trace, load_catalogue

    traces = (get_trace(args.trace),) if args.trace else load_catalogue()
    if ui.as_json:
        ui.show_json(traces_to_json(traces))
    elif args.trace:
        show_trace(traces[0], ui.console)
    else:
        show_traces(traces, ui.console)
    return 0
