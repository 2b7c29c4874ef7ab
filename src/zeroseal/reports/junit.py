"""Answers on many images as JUnit XML, as continuous integration reads it."""

from __future__ import annotations

from xml.etree import ElementTree

from zeroseal.sentences import clean

_COULD_NOT = (3, 5, 130)


def build_junit(command: str, cases: list[tuple[str, str, str, int | None, float]]) -> bytes:
    """One test suite with a case an image.

    Args:
        command: such as ``check``.
        cases: (image, answer in a word, sentence, exit status or None where it was not begun,
            seconds).
    """
    suite = ElementTree.Element(
        "testsuite",
        name=f"zeroseal {command}",
        tests=str(len(cases)),
        failures=str(sum(1 for case in cases if case[3] and case[3] not in _COULD_NOT)),
        errors=str(sum(1 for case in cases if case[3] in _COULD_NOT)),
        skipped=str(sum(1 for case in cases if case[3] is None)),
        time=f"{sum(case[4] for case in cases):.3f}",
    )
    for image, word, sentence, status, seconds in cases:
        case = ElementTree.SubElement(
            suite, "testcase", name=clean(image), classname=f"zeroseal.{command}",
            time=f"{seconds:.3f}",
        )  # fmt: skip
        if status is None:
            ElementTree.SubElement(case, "skipped", message=clean(sentence))
        elif status:
            kind = "error" if status in _COULD_NOT else "failure"
            ElementTree.SubElement(case, kind, type=word, message=clean(sentence))
    ElementTree.indent(suite)
    content: bytes = ElementTree.tostring(suite, encoding="utf-8", xml_declaration=True)
    return content + b"\n"
