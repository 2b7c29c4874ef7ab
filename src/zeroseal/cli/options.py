"""Options that several commands share, and what they mean."""

from __future__ import annotations

import argparse
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from zeroseal import api
from zeroseal.cli.parser import CLONES, OUTPUT, POLICY, PROOF, READING, TREATED, Parser
from zeroseal.errors import UsageError
from zeroseal.images.compression import COMPRESSIONS, SMALL
from zeroseal.machines import HOST_NAMES
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.images.reach import Reach
    from zeroseal.machines.definition import MachineDefinition
    from zeroseal.machines.sheet.model import Accept
    from zeroseal.machines.throwaway import TrialWish
    from zeroseal.sealing.canaries import Canary
    from zeroseal.sealing.house_rules import HouseRules
    from zeroseal.sealing.policy import MachineKnowledge, Policy
    from zeroseal.sealing.signing import TrustedKey


def add_compression(parser: Parser) -> None:
    """How a new file is compressed."""
    parser.group(OUTPUT).add_argument(
        "--compress",
        nargs="?",
        const=SMALL,
        default="",
        choices=COMPRESSIONS,
        metavar="KIND",
        help=(
            "compress the new file (qcow2, stream-optimized VMDK). KIND is small (default), "
            "fast (about ten times as fast, a tenth larger) or zstd (qcow2 only; needs QEMU "
            "5.1 or newer)"
        ),
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


def add_container(parser: Parser) -> None:
    """What kind of container a new file is."""
    add_compression(parser)
    parser.group(OUTPUT).add_argument(
        "--fixed", action="store_true", help="allocate every block in its place: VHDX, VHD, VDI"
    )
    parser.group(OUTPUT).add_argument(
        "--preallocate",
        action="store_true",
        help="reserve the space for the whole disk first: raw, or with --fixed",
    )


def add_snapshot(parser: Parser) -> None:
    """Which state of a disk is meant."""
    parser.group(READING).add_argument(
        "--snapshot",
        default="",
        metavar="NAME",
        help="use the state of the disk in this internal snapshot (qcow2)",
    )


def add_reach(parser: Parser) -> None:
    """What an image is, and which other files may be read for it."""
    from zeroseal.images.reach import SOURCE_FORMATS

    parser.group(READING).add_argument(
        "--source-format",
        choices=SOURCE_FORMATS,
        default="",
        help="format of IMAGE, where its name and its first bytes differ",
    )
    parser.group(READING).add_argument(
        "--follow",
        action="append",
        default=[],
        type=Path,
        metavar="DIR",
        help="also allow backing files, extents and data files in this folder; may be repeated",
    )


def add_overwrite_device(parser: Parser) -> None:
    """Whether the output may be a device."""
    parser.group(OUTPUT).add_argument(
        "--overwrite-device",
        action="store_true",
        help="OUT is a block device at least as large as the disk: all of its contents are lost",
    )


def reach_from(args: argparse.Namespace) -> Reach:
    """What the words say of images."""
    from zeroseal.images.reach import Reach

    return Reach(args.source_format, tuple(args.follow))


def add_root(parser: Parser) -> None:
    """A root file system that is no disk."""
    parser.group(READING).add_argument(
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
        raise UsageError(messages.NOT_WITH_ROOT.format(wrong=wrong[0]))


def images_of(args: argparse.Namespace) -> list[Path]:
    """The image files that a command line names for reading or changing."""
    values = [getattr(args, name, None) for name in ("image", "against", "on", "template")]
    values += getattr(args, "images", [])
    paths = [Path(value) for value in values if isinstance(value, (str, Path)) and str(value)]
    return [path for path in paths if path.is_file() or path.is_block_device()]


def add_yard(parser: Parser) -> None:
    """Where machines live."""
    parser.add_argument(
        "--yard", type=Path, metavar="DIR", help="the yard (default: as configured, else yard)"
    )


def add_host(parser: Parser, default: str, title: str = "") -> None:
    """What runs machines."""
    (parser.group(title) if title else parser).add_argument(
        "--host",
        choices=HOST_NAMES,
        help=f"what runs the machines (default: as configured, else {default})",
    )


def add_starts(parser: Parser) -> None:
    """How throwaway machines are started."""
    add_host(parser, "qemu")
    parser.add_argument(
        "--no-seed", action="store_true", help="give them no seed: then nobody can log in"
    )
    parser.add_argument(
        "--within",
        type=int,
        default=900,
        metavar="SECONDS",
        help="time for each start in seconds (default: 900)",
    )


def wish_from(args: argparse.Namespace, accept: Accept | None = None) -> TrialWish:
    """How the words want throwaway machines to be started."""
    import time

    from zeroseal.machines.sheet.model import Accept
    from zeroseal.machines.throwaway import TrialWish

    return TrialWish(
        now=int(time.time()),
        host=args.host or "qemu",
        with_seed=not args.no_seed,
        within_seconds=args.within,
        accept=accept or Accept(),
        definition=definition_from(args),
        reach=reach_from(args),
    )


def add_shelf(parser: Parser) -> None:
    """Where templates lie."""
    parser.add_argument(
        "--shelf", type=Path, metavar="DIR", help="the shelf (default: as configured, else shelf)"
    )


def add_machine_file(parser: Parser) -> None:
    """The definition of the machine that a disk belongs to."""
    parser.group(READING).add_argument(
        "--machine",
        type=Path,
        metavar="FILE",
        help="the machine definition: libvirt domain XML, OVF, or a machine.toml",
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


def add_choices(parser: Parser) -> None:
    """What to treat and what to keep, and what clones get."""
    treated, clones = parser.group(TREATED), parser.group(CLONES)
    treated.add_argument(
        "--only",
        action="append",
        default=[],
        metavar="TRACE",
        help="treat only this trace or family; may be repeated",
    )
    treated.add_argument(
        "--skip",
        action="append",
        default=[],
        metavar="TRACE",
        help="leave this trace or family unchanged; may be repeated",
    )
    treated.add_argument(
        "--retain-account",
        action="append",
        default=[],
        metavar="NAME",
        help="keep this human account with its home folder and login keys; may be repeated",
    )
    treated.add_argument(
        "--remove-account",
        action="append",
        default=[],
        metavar="NAME",
        help=(
            "remove this account in the human range even though a service runs as it; may be "
            "repeated"
        ),
    )
    treated.add_argument(
        "--keep-root-login", action="store_true", help="keep root's password and login keys"
    )
    clones.add_argument(
        "--plant-first-boot",
        action="store_true",
        help=(
            "put a script into the guest that runs once, on a clone's first boot: it creates "
            "what nothing else there regrows, reads a seed, and removes itself"
        ),
    )
    clones.add_argument(
        "--plant-fallback-loader",
        action="store_true",
        help=(
            "copy the guest's own UEFI loader to where the firmware of any clone finds it "
            "(EFI/BOOT)"
        ),
    )
    clones.add_argument(
        "--expect-seed",
        action="store_true",
        help="every clone will get a seed that creates an account and the network",
    )
    clones.add_argument(
        "--to-dhcp",
        action="store_true",
        help="let clones use DHCP where the machine has a static address",
    )
    treated.add_argument(
        "--restart-history",
        action="store_true",
        help=(
            "remove version histories of /etc and home folders; etckeeper starts again on "
            "first boot"
        ),
    )
    snapshots = treated.add_mutually_exclusive_group()
    snapshots.add_argument(
        "--drop-snapshots",
        action="store_true",
        help="remove snapshots of the file systems that the guest mounts (btrfs)",
    )
    snapshots.add_argument(
        "--seal-snapshots",
        action="store_true",
        help="remove from each snapshot what is removed from the guest, and keep the snapshots",
    )
    add_strict(parser)
    clones.add_argument(
        "--allow-static-address",
        action="store_true",
        help="let every clone start with the machine's static address",
    )
    clones.add_argument(
        "--same-size-clones",
        action="store_true",
        help="no clone's disk will be larger than the template's",
    )
    treated.add_argument(
        "--reissue-sid",
        action="store_true",
        help=(
            "Windows: replace the machine's security identifier by a new random one; the plan "
            "shows what that breaks"
        ),
    )


def add_places(parser: Parser) -> None:
    """How much is shown of each trace."""
    parser.add_argument(
        "--places",
        action="store_true",
        help="for every trace, show the reason, what regrows it, and every place",
    )


class _Choices(Parser):
    """The options of a seal behind ``--as-if``."""

    def error(self, message: str) -> NoReturn:
        raise UsageError(messages.AS_IF_WRONG.format(problem=message))


def add_strict(parser: Parser) -> None:
    """Whether what no catalogue knows may stay."""
    parser.group(PROOF).add_argument(
        "--strict",
        action="store_true",
        help="accept no unclaimed file and no secret that stays (zeroseal survey --unclaimed)",
    )


def add_canaries(parser: Parser) -> None:
    """Texts that must be gone."""
    parser.group(PROOF).add_argument(
        "--canaries",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help=(
            "texts that must be nowhere in the result, one on each line; also searched in UTF-16, "
            "base64, compressed files and names; may be repeated"
        ),
    )


def canaries_from(args: argparse.Namespace) -> tuple[Canary, ...]:
    """The texts of the files that were named.

    Raises:
        MissingError, UsageError: one cannot be read, or is wrong.
    """
    if not (files := getattr(args, "canaries", [])):
        return ()
    from zeroseal.sealing.canaries import read_canaries

    return tuple(canary for path in files for canary in read_canaries(path))


def take_choices(args: argparse.Namespace) -> None:
    """Puts the options behind ``--as-if`` where a seal has them.

    Raises:
        UsageError: a word is not such an option.
    """
    choices = _Choices(prog="zeroseal survey")
    add_choices(choices)
    chosen = vars(choices.parse(args.as_if))
    vars(args).update((name, chosen[name]) for name in chosen if name != "own_parser")


def add_secrets(parser: Parser, title: str) -> None:
    """Where the secrets are that sheets refer to."""
    parser.group(title).add_argument(
        "--secrets", type=Path, metavar="FILE", help="a TOML file with secrets, mode 0600"
    )


def add_trusted(parser: Parser) -> None:
    """Whose signatures count."""
    parser.group(PROOF).add_argument(
        "--trusted",
        type=Path,
        action="append",
        default=[],
        metavar="KEYS",
        help=(
            "public keys (OpenSSH or PEM): only a record signed by one of them counts; may be "
            "repeated"
        ),
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


def add_rules(parser: Parser) -> None:
    """A site's policy."""
    parser.group(POLICY).add_argument(
        "--rules",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="house rules (TOML); a later FILE overrides earlier ones; may be repeated",
    )
    parser.group(POLICY).add_argument(
        "--show-rules",
        action="store_true",
        help="show the house rules in force and exit",
    )


def add_recovery(parser: Parser) -> None:
    """What to do about a file system that was not shut down cleanly."""
    parser.group(READING).add_argument(
        "--recover-journal",
        action="store_true",
        help=(
            "recover ext file systems that were not shut down cleanly, as the guest would on "
            "its next start; IMAGE itself is not changed by this"
        ),
    )


def add_search(parser: Parser) -> None:
    """How far the result of a seal is proven."""
    parser.group(PROOF).add_argument(
        "--level",
        choices=("full", "deep"),
        default="deep",
        help=(
            "deep: search the bytes of the result for every removed value (default); full: "
            "skip that search"
        ),
    )
    add_canaries(parser)
    parser.group(PROOF).add_argument(
        "--allow-residue",
        action="store_true",
        help="seal even if removed values are still found; the record lists them",
    )


def policy_from(args: argparse.Namespace) -> Policy:
    """The policy that the words and the house rules mean together.

    Raises:
        UsageError: a name that is no trace, options that do not go together, or wrong rules.
    """
    options = api.SealOptions(
        only=_split(args.only),
        skip=_split(args.skip),
        retained_accounts=_split(args.retain_account),
        removed_accounts=_split(args.remove_account),
        keep_root_login=args.keep_root_login,
        plant_first_boot=args.plant_first_boot,
        plant_fallback_loader=args.plant_fallback_loader,
        expect_seed=args.expect_seed,
        search_values=getattr(args, "level", "full") == "deep",
        allow_residue=getattr(args, "allow_residue", False),
        allow_static_address=args.allow_static_address,
        to_dhcp=args.to_dhcp,
        restart_history=args.restart_history,
        drop_snapshots=args.drop_snapshots,
        seal_snapshots=args.seal_snapshots,
        same_size_clones=args.same_size_clones,
        new_volume_ids=getattr(args, "new_volume_ids", False),
        reissue_sid=args.reissue_sid,
        strict=args.strict,
        canaries=canaries_from(args),
        recover_journal=getattr(args, "recover_journal", False),
    )
    return api.make_policy(
        options,
        args.rules,
        machine=_knowledge_from(args),
        source_format=getattr(args, "source_format", ""),
        follow=getattr(args, "follow", ()),
    )


def policy_of_site(args: argparse.Namespace) -> Policy:
    """The policy of the house rules alone.

    Raises:
        UsageError: they are wrong.
    """
    return api.make_policy(
        api.SealOptions(strict=getattr(args, "strict", False), canaries=canaries_from(args)),
        [*args.rules, *gate_of(args)],
        source_format=getattr(args, "source_format", ""),
        follow=getattr(args, "follow", ()),
    )


def gate_of(args: argparse.Namespace) -> list[Path]:
    """The file of ``--gate``, which is laid over the house rules."""
    return [args.gate] if getattr(args, "gate", None) else []


def rules_from(args: argparse.Namespace) -> HouseRules:
    """The house rules that were named.

    Raises:
        MissingError, UsageError: a file cannot be read, or is wrong.
    """
    from zeroseal.sealing.house_rules import read_house_rules

    return read_house_rules([*getattr(args, "rules", []), *gate_of(args)])


def _knowledge_from(args: argparse.Namespace) -> MachineKnowledge | None:
    if not hasattr(args, "machine"):
        return None
    definition = definition_from(args)
    if definition is None:
        return None
    from zeroseal.machines.readiness import knowledge_of

    image = getattr(args, "image", None)
    return knowledge_of(definition, image.parent if image else Path())


def _split(values: list[str]) -> tuple[str, ...]:
    """A comma may stand for a repeated option."""
    return tuple(part.strip() for value in values for part in value.split(",") if part.strip())
