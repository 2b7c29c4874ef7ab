"""Answers on many images as metrics, in the text format that Prometheus collects from files.

Source: Prometheus, "Exposition formats", text-based format; node exporter's textfile collector.
"""

from __future__ import annotations

from collections.abc import Iterable

from zeroseal.fleet.answer import Answer


def build_metrics(command: str, answers: list[Answer], now: int) -> bytes:
    """Whether each image is well, what was answered and when; and how many of each answer.

    Args:
        command: such as ``check``; it is part of the metrics' names.
        answers: of one run.
        now: its end, seconds since 1970.
    """
    name = f"zeroseal_{command}"
    begun = [answer for answer in answers if answer.status is not None]
    counts: dict[str, int] = {}
    for answer in answers:
        counts[answer.word] = counts.get(answer.word, 0) + 1
    lines = [
        *_family(
            f"{name}_ok",
            "Whether the answer on the image is yes (1) or anything else (0).",
            (({"image": item.subject.name}, int(item.status == 0)) for item in begun),
        ),
        *_family(
            f"{name}_answer",
            "The answer on the image, as a label.",
            (({"image": item.subject.name, "answer": item.word}, 1) for item in answers),
        ),
        *_family(
            f"{name}_looked_at_timestamp_seconds",
            "When the image was looked at.",
            (({"image": item.subject.name}, item.unchanged_since or now) for item in begun),
        ),
        *_family(
            f"{name}_sealed_timestamp_seconds",
            "When the image was sealed, by its record.",
            (
                ({"image": item.subject.name}, item.value["sealedAt"])
                for item in begun
                if isinstance(item.value.get("sealedAt"), int)
            ),
        ),
        *_family(
            f"{name}_duration_seconds",
            "How long the look at the image took; 0 for one that had not changed.",
            (({"image": item.subject.name}, round(item.seconds, 3)) for item in begun),
        ),
        *_family(
            f"{name}_images",
            "How many images have which answer.",
            (({"answer": word}, count) for word, count in sorted(counts.items())),
        ),
        *_family(
            f"{name}_run_timestamp_seconds", "When the run over all images ended.", [({}, now)]
        ),
    ]
    return ("\n".join(lines) + "\n").encode()


def _family(name: str, text: str, samples: Iterable[tuple[dict[str, str], float]]) -> Iterable[str]:
    yield f"# HELP {name} {text}"
    yield f"# TYPE {name} gauge"
    for labels, value in samples:
        inside = ",".join(f'{key}="{_escaped(item)}"' for key, item in labels.items())
        yield f"{name}{{{inside}}} {value}" if inside else f"{name} {value}"


def _escaped(text: str) -> str:
    shown = text.encode("utf-8", "backslashreplace").decode("utf-8")
    return shown.replace("\\", r"\\").replace('"', r"\"").replace("\n", r"\n")
