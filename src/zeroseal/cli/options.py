"""Options that several commands share, and what they mean."""

from __future__ import annotations

import argparse
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias

from zeroseal.errors import UsageError
from zeroseal.images.compression import COMPRESSIONS, SMALL

if TYPE_CHECKING:
    from zeroseal.images.reach import Reach
    from zeroseal.machines.definition import MachineDefinition
    from zeroseal.sealing.house_rules import HouseRules
    from zeroseal.sealing.policy import MachineKnowledge, Policy
    from zeroseal.sealing.signing import TrustedKey

Subparsers: TypeAlias = "argparse._SubParsersAction[Any]"


def add_common(parser: argparse.ArgumentParser) -> None:
    """The habits of every command."""
    parser.add_argument("--json", action="store_true", help="print the result as JSON")
    parser.add_argument("--quiet", action="store_true", help="no progress, only the result")


def add_compression(parser: argparse.ArgumentParser) -> None:
    """How a new file is compressed."""
    parser.add_argument(
        "--compress",
        nargs="?",
        const=SMALL,
        default="",
        choices=COMPRESSIONS,
        metavar="KIND",
        help="compressed qcow2, stream-optimized VMDK. KIND is small (default), fast (about ten "
        "times as fast, a tenth larger) or zstd (qcow2 only; needs QEMU 5.1 or newer to be read)",
    )


def spell_out(argv: list[str]) -> list[str]:
    """The words of a command line, with the kind after ``--compress``: an image may follow it."""
    words = []
    for word, following in pairwise([*argv, ""]):
        is_bare = word == "--compress" and not _may_be_kind(following)
        words.append(f"{word}={SMALL}" if is_bare else word)
    return words


def _may_be_kind(word: str) -> bool:
    """Whether a word is a kind of compression, or a wrong one rather than the path of an image."""
    is_path = not word.isalnum() or Path(word).exists()
    return word in COMPRESSIONS or not is_path


def add_container(parser: argparse.ArgumentParser) -> None:
    """What kind of container a new file is."""
    add_compression(parser)
    parser.add_argument(
        "--fixed", action="store_true", help="every block in its place: VHDX, VHD, VDI"
    )
    parser.add_argument(
        "--preallocate",
        action="store_true",
        help="take the room for the whole disk first: raw, or with --fixed",
    )


def add_snapshot(parser: argparse.ArgumentParser) -> None:
    """Which state of a disk is meant."""
    parser.add_argument(
        "--snapshot",
        default="",
        metavar="NAME",
        help="the disk as this internal snapshot has it (qcow2)",
    )


def add_reach(parser: argparse.ArgumentParser) -> None:
    """What an image is, and which other files may be read for it."""
    from zeroseal.images.reach import SOURCE_FORMATS

    parser.add_argument(
        "--source-format",
        choices=SOURCE_FORMATS,
        default="",
        help="what the image file is, where its name and its first bytes do not agree",
    )
    parser.add_argument(
        "--follow",
        action="append",
        default=[],
        type=Path,
        metavar="DIR",
        help="also read backing files, extents and data files that lie in this folder; may be "
        "repeated",
    )


def add_overwrite_device(parser: argparse.ArgumentParser) -> None:
    """Whether the output may be a device."""
    parser.add_argument(
        "--overwrite-device",
        action="store_true",
        help="OUT is a block device at least as large as the disk: all that it holds is lost",
    )


def reach_from(args: argparse.Namespace) -> Reach:
    """What the words say of images."""
    from zeroseal.images.reach import Reach

    return Reach(args.source_format, tuple(args.follow))


def add_root(parser: argparse.ArgumentParser) -> None:
    """A root file system that is no disk."""
    parser.add_argument(
        "--root",
        type=Path,
        metavar="TREE",
        help="instead of IMAGE: a folder with a root file system, or a tar archive of one",
    )


def check_root(args: argparse.Namespace) -> None:
    """A tree is handled by itself.

    Raises:
        UsageError: it is named together with images, or with what only a disk has.
    """
    given = {
        "IMAGE": args.images,
        "--snapshot": getattr(args, "snapshot", ""),
        "--machine": getattr(args, "machine", None),
        "--format": getattr(args, "format", None),
        "--recover-journal": getattr(args, "recover_journal", False),
        "--to": getattr(args, "to", None),
        "--against": getattr(args, "against", None),
        "--junit": args.junit,
        "--json-lines": args.json_lines,
    }
    wrong = [name for name, value in given.items() if value]
    if wrong:
        raise UsageError(f"--root names one tree, and does not go with {wrong[0]}")


def images_of(args: argparse.Namespace) -> list[Path]:
    """The image files that a command line names for reading or changing."""
    values = [getattr(args, name, None) for name in ("image", "against", "on", "template")]
    values += getattr(args, "images", [])
    paths = [Path(value) for value in values if isinstance(value, (str, Path)) and str(value)]
    return [path for path in paths if path.is_file() or path.is_block_device()]


def add_yard(parser: argparse.ArgumentParser) -> None:
    """Where machines live."""
    parser.add_argument(
        "--yard", type=Path, default=Path("yard"), metavar="DIR", help="the yard (default: yard)"
    )


def add_shelf(parser: argparse.ArgumentParser) -> None:
    """Where templates lie."""
    parser.add_argument(
        "--shelf", type=Path, default=Path("shelf"), metavar="DIR", help="(default: shelf)"
    )


def add_machine_file(parser: argparse.ArgumentParser) -> None:
    """The definition of the machine that a disk belongs to."""
    parser.add_argument(
        "--machine",
        type=Path,
        metavar="FILE",
        help="the machine's definition: libvirt domain XML, OVF, or a machine.toml",
    )


def definition_from(args: argparse.Namespace) -> MachineDefinition | None:
    """The machine that a disk belongs to: as named, or as the machine file beside the disk says.

    Raises:
        MissingError, DamagedError: the definition cannot be read.
    """
    from zeroseal.machines import FILE_NAME

    if args.machine:
        from zeroseal.machines.definition_files import read_definition_file

        return read_definition_file(args.machine)
    image = getattr(args, "image", None)
    beside = image.parent / FILE_NAME if image else None
    if beside is None or not beside.is_file():
        return None
    from zeroseal.machines.definition import read_machine_file

    found = read_machine_file(beside)
    return found if (beside.parent / found.disk).resolve() == args.image.resolve() else None


def add_choices(parser: argparse.ArgumentParser) -> None:
    """What to treat and what to keep."""
    parser.add_argument(
        "--only",
        action="append",
        default=[],
        metavar="TRACE",
        help="treat only this trace or family; may be repeated",
    )
    parser.add_argument(
        "--skip",
        action="append",
        default=[],
        metavar="TRACE",
        help="leave this trace or family alone; may be repeated",
    )
    parser.add_argument(
        "--retain-account",
        action="append",
        default=[],
        metavar="NAME",
        help="keep this human account with its home and login keys; may be repeated",
    )
    parser.add_argument(
        "--remove-account",
        action="append",
        default=[],
        metavar="NAME",
        help="remove this account of the human range though a service runs as it; may be repeated",
    )
    parser.add_argument(
        "--keep-root-login", action="store_true", help="keep root's password and login keys"
    )
    parser.add_argument(
        "--plant-first-boot",
        action="store_true",
        help="put a script into the guest that runs once, on a clone's first boot: it makes what "
        "nothing else there regrows, takes a seed, and removes itself",
    )
    parser.add_argument(
        "--expect-seed",
        action="store_true",
        help="every clone will get a seed that creates an account and the network",
    )
    parser.add_argument(
        "--to-dhcp",
        action="store_true",
        help="where the machine has a static address, let clones ask for one",
    )
    parser.add_argument(
        "--restart-history",
        action="store_true",
        help="remove version histories over /etc and homes; etckeeper begins again on first boot",
    )
    parser.add_argument(
        "--allow-static-address",
        action="store_true",
        help="let every clone begin with the machine's static address",
    )
    parser.add_argument(
        "--same-size-clones",
        action="store_true",
        help="no clone's disk will be larger than the template's",
    )
    parser.add_argument(
        "--reissue-sid",
        action="store_true",
        help="Windows: put a new random security identifier in the place of the machine's own; the "
        "plan says what that breaks",
    )


def add_secrets(parser: argparse.ArgumentParser) -> None:
    """Where the secrets are that sheets refer to."""
    parser.add_argument(
        "--secrets", type=Path, metavar="FILE", help="a TOML file with the secrets, mode 0600"
    )


def add_trusted(parser: argparse.ArgumentParser) -> None:
    """Whose signatures count."""
    parser.add_argument(
        "--trusted",
        type=Path,
        action="append",
        default=[],
        metavar="KEYS",
        help="public keys (OpenSSH or PEM): only a record that one of them signed counts; may be "
        "repeated",
    )


def trusted_from(args: argparse.Namespace) -> tuple[TrustedKey, ...]:
    """The keys that are trusted; none where nobody named any.

    Raises:
        MissingError, UsageError: a file with keys cannot be read.
    """
    if not args.trusted:
        return ()
    from zeroseal.sealing.signing import read_trusted

    return read_trusted(args.trusted)


def add_rules(parser: argparse.ArgumentParser) -> None:
    """A site's policy."""
    parser.add_argument(
        "--rules",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="house rules (TOML); a later FILE is laid over those before it",
    )
    parser.add_argument(
        "--show-rules",
        action="store_true",
        help="print the house rules in force, and do nothing else",
    )


def add_recovery(parser: argparse.ArgumentParser) -> None:
    """What to do about a file system that was not shut down cleanly."""
    parser.add_argument(
        "--recover-journal",
        action="store_true",
        help="recover file systems (ext) that were not shut down cleanly, as the guest would on "
        "its next start; IMAGE itself is not changed by that",
    )


def add_search(parser: argparse.ArgumentParser) -> None:
    """How far the result of a seal is proven."""
    parser.add_argument(
        "--level",
        choices=("full", "deep"),
        default="deep",
        help="deep: search the result's bytes for every value that was removed (default); full: "
        "leave that out",
    )
    parser.add_argument(
        "--allow-residue",
        action="store_true",
        help="seal even if removed values are still found; they are named in the record",
    )


def policy_from(args: argparse.Namespace) -> Policy:
    """The policy that the words and the house rules mean together.

    Raises:
        UsageError: a name that is no trace, options that do not go together, or wrong rules.
    """
    from zeroseal.sealing.policy import SealOptions, resolve

    options = SealOptions(
        only=_split(args.only),
        skip=_split(args.skip),
        retained_accounts=_split(args.retain_account),
        removed_accounts=_split(args.remove_account),
        keep_root_login=args.keep_root_login,
        plant_first_boot=args.plant_first_boot,
        expect_seed=args.expect_seed,
        search_values=getattr(args, "level", "full") == "deep",
        allow_residue=getattr(args, "allow_residue", False),
        allow_static_address=args.allow_static_address,
        to_dhcp=args.to_dhcp,
        restart_history=args.restart_history,
        same_size_clones=args.same_size_clones,
        reissue_sid=args.reissue_sid,
        recover_journal=getattr(args, "recover_journal", False),
    )
    return resolve(options, rules_from(args), _knowledge_from(args), _reach_of(args))


def policy_of_site(args: argparse.Namespace) -> Policy:
    """The policy of the house rules alone.

    Raises:
        UsageError: they are wrong.
    """
    from zeroseal.sealing.policy import resolve

    return resolve(rules=rules_from(args), reach=_reach_of(args))


def rules_from(args: argparse.Namespace) -> HouseRules:
    """The house rules that were named.

    Raises:
        MissingError, UsageError: a file cannot be read, or is wrong.
    """
    from zeroseal.sealing.house_rules import read_house_rules

    return read_house_rules(getattr(args, "rules", []))


def _reach_of(args: argparse.Namespace) -> Reach:
    """What the words say of images, for commands that have such words."""
    from zeroseal.images.reach import Reach

    return Reach(getattr(args, "source_format", ""), tuple(getattr(args, "follow", ())))


def _knowledge_from(args: argparse.Namespace) -> MachineKnowledge | None:
    if not hasattr(args, "machine"):
        return None
    definition = definition_from(args)
    if definition is None:
        return None
    from zeroseal.machines.readiness import knowledge_of

    return knowledge_of(definition)


def _split(values: list[str]) -> tuple[str, ...]:
    """A comma may stand for a repeated option."""
    return tuple(part.strip() for value in values for part in value.split(",") if part.strip())
