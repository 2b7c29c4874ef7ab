"""The help: groups, examples that parse, and the nearest word for one that is wrong."""

import argparse
import shlex
from collections.abc import Iterator

import pytest

from tests.conftest import Command
from zeroseal.cli.main import COMMANDS, GROUPS, build_parser
from zeroseal.cli.parser import CLONES, GENERAL, OUTPUT, TREATED, Parser


def parsers() -> Iterator[tuple[str, Parser]]:
    """Every command and every action, with its parser."""
    waiting: list[tuple[str, argparse.ArgumentParser]] = [("zeroseal", build_parser())]
    while waiting:
        name, parser = waiting.pop()
        assert isinstance(parser, Parser)
        yield name, parser
        for action in parser._actions:
            if isinstance(action, argparse._SubParsersAction):
                waiting += [(f"{name} {word}", sub) for word, sub in action.choices.items()]


PARSERS = dict(parsers())


@pytest.mark.parametrize("name", PARSERS)
def test_the_help_says_what_each_word_is_for(name: str) -> None:
    parser = PARSERS[name]
    for action in parser._actions:
        assert action.help, action
    text = parser.format_help()
    assert parser._action_groups[-1].title == GENERAL
    assert text.startswith(f"usage: {name}")
    assert all(len(line) <= 100 for line in text.split("\n")[2:])


@pytest.mark.parametrize("name", COMMANDS)
def test_every_command_has_examples_and_they_parse(name: str) -> None:
    lines = (PARSERS[f"zeroseal {name}"].epilog or "").split("\n")
    commands = [line.strip() for line in lines if line.startswith("    zeroseal ")]
    assert commands
    for command in commands:
        build_parser().parse(shlex.split(command.partition(" > ")[0])[1:])


def test_the_first_help_names_every_command_once() -> None:
    text = PARSERS["zeroseal"].format_help()
    for name in COMMANDS:
        assert text.count(f"\n  {name} ") == 1
    assert sorted(name for names in GROUPS.values() for name in names) == sorted(COMMANDS)


def test_a_survey_has_no_options_that_only_a_seal_has() -> None:
    seal, survey = PARSERS["zeroseal seal"], PARSERS["zeroseal survey"]
    for title in (TREATED, CLONES, OUTPUT):
        words = [word for item in seal.group(title)._group_actions for word in item.option_strings]
        assert words
        assert not set(words) & set(survey.option_words())


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("saeal", "x"), "the command 'saeal' is not known: did you mean seal?"),
        (("shelf", "lits"), "the action 'lits' is not known: did you mean list?"),
        (("seal", "x", "--retian-account", "a"), "did you mean --retain-account?"),
        (("seal", "x", "--retain", "a"), "the option --retain is not known"),
        (("check", "x", "--level", "ful"), "'ful' is not valid: did you mean full?"),
        (("report", "x", "y"), "the argument 'y' is not expected here"),
        (("survey", "x", "--as-if", "--plant"), "must be a choice of zeroseal seal"),
        (("survey", "x", "--skip", "keys.vpn"), "the option --skip is not known"),
    ],
)
def test_a_wrong_word_is_answered_with_the_nearest(
    words: tuple[str, ...], told: str, zeroseal: Command
) -> None:
    answer = zeroseal(*words)
    assert (answer.status, told in answer.err) == (2, True), answer.err
    assert answer.err.count("\n") <= 2
