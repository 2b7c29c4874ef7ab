"""Answers on many images as SARIF 2.1.0, as code scanning and continuous integration read it.

Source: OASIS, "Static Analysis Results Interchange Format (SARIF) Version 2.1.0". An image that is
well has no result; each miss of a gate and each trace that was found is one of its own.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote

from zeroseal import __version__
from zeroseal.fleet.answer import Answer

_SCHEMA = "https://json.schemastore.org/sarif-2.1.0.json"
_COULD_NOT = (3, 5, 130)


@dataclass(frozen=True)
class _Finding:
    rule: str
    title: str
    level: str
    text: str


def build_sarif(command: str, answers: list[Answer]) -> bytes:
    """One run, with a result for each thing that is wrong.

    Args:
        command: such as ``check``.
        answers: on all images.
    """
    found = [
        (number, finding) for number, answer in enumerate(answers) for finding in _findings(answer)
    ]
    rules = {finding.rule: finding.title for _number, finding in found}
    numbers = {rule: number for number, rule in enumerate(sorted(rules))}
    run = {
        "tool": {
            "driver": {
                "name": "zeroseal",
                "version": __version__,
                "rules": [
                    {"id": rule, "shortDescription": {"text": rules[rule]}} for rule in numbers
                ],
            }
        },
        "invocations": [
            {
                "commandLine": f"zeroseal {command}",
                "executionSuccessful": not any(item.status in _COULD_NOT for item in answers),
            }
        ],
        "artifacts": [{"location": {"uri": _uri(item.subject.name)}} for item in answers],
        "results": [
            {
                "ruleId": finding.rule,
                "ruleIndex": numbers[finding.rule],
                "level": finding.level,
                "message": {"text": finding.text},
                "locations": [
                    {
                        "physicalLocation": {
                            "artifactLocation": {
                                "uri": _uri(answers[number].subject.name),
                                "index": number,
                            }
                        }
                    }
                ],
            }
            for number, finding in found
        ],
    }
    value = {"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}
    return json.dumps(value, indent=1, ensure_ascii=True).encode() + b"\n"


def _findings(answer: Answer) -> Iterator[_Finding]:
    value: dict[str, Any] = answer.value
    if answer.status == 0:
        return
    gate = value.get("gate")
    for miss in gate["misses"] if gate else ():
        rule = f"gate/{miss['rule']}"
        yield _Finding(rule, f"The rule {miss['rule']} of the gate", "error", miss["sentence"])
    for group in value.get("findings") or () if value.get("schema") == "zeroseal.check" else ():
        places = [str(place["place"]) for place in group["places"]]
        yield _Finding(
            f"trace/{group['trace']}",
            str(group["title"]),
            "error",
            f"{group['title']}: {', '.join(places[:5])}",
        )
    if not gate or gate["passes"]:
        level = "none" if answer.status is None else "error"
        rule = answer.word.lower().replace(" ", "-")
        yield _Finding(f"answer/{rule}", f"The answer {answer.word}", level, answer.sentence)


def _uri(name: str) -> str:
    """A path as a URI; one that is not absolute stays so."""
    path = Path(name)
    return path.as_uri() if path.is_absolute() else quote(path.as_posix())
