"""``zeroseal export``: a disk in another container format."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.blocks.sizes import parse_size
from zeroseal.cli.options import (
    add_container,
    add_overwrite_device,
    add_reach,
    add_snapshot,
    reach_from,
)
from zeroseal.cli.parser import OUTPUT, Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.images.ova.descriptor import Appliance
    from zeroseal.images.ova.manifest import Signer

_FORMATS = ("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi", "ova")


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "export",
        usage="zeroseal export IMAGE --format FORMAT -o OUT [OPTION ...]",
        help="convert a disk to the format of another hypervisor",
        description=(
            "Writes the disk of an image into a new file of another format, without empty "
            "areas, and reads it back to prove that it is the same disk byte for byte. The "
            "seal record is copied too, because it describes the disk and not its container. "
            "The source never changes."
        ),
        examples=(
            ("export sealed.qcow2 --format vhdx -o sealed.vhdx", "for Hyper-V"),
            (
                "export sealed.qcow2 --format ova -o gate.ova --memory 4G",
                "a package with a machine definition",
            ),
            ("export sealed.vmdk --format qcow2 --compress fast -o sealed.qcow2", "compressed"),
        ),
    )
    parser.add_argument("image", type=Path, metavar="IMAGE", help="a disk image, OVA or OVF")
    parser.add_argument("--format", choices=_FORMATS, required=True, help="format of the new file")
    parser.add_argument(
        "-o", dest="output", type=Path, metavar="OUT", required=True, help="the new file"
    )
    add_container(parser)
    add_snapshot(parser)
    parser.group(OUTPUT).add_argument(
        "--disk-size", default="", metavar="SIZE", help="a larger disk size, such as 40G"
    )
    parser.group(OUTPUT).add_argument(
        "--no-verify", action="store_true", help="do not read the new file back to compare it"
    )
    package = parser.group("machine settings of an OVA")
    package.add_argument("--name", default="", help="(default: the name of OUT)")
    package.add_argument("--cpus", type=int, default=2, metavar="N", help="(default: 2)")
    package.add_argument("--memory", default="2G", metavar="SIZE", help="(default: 2G)")
    package.add_argument("--uefi", action="store_true", help="UEFI firmware instead of BIOS")
    package.add_argument(
        "--sign-key", type=Path, metavar="PEM", help="the RSA key that signs the manifest"
    )
    package.add_argument("--certificate", type=Path, metavar="PEM", help="the key's certificate")
    add_overwrite_device(parser)
    add_reach(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_export import show_export
    from zeroseal.images.create import ContainerSpec
    from zeroseal.reports.as_json import export_to_json
    from zeroseal.sealing.export import ExportRequest, export_image

    is_package = args.format == "ova"
    container = ContainerSpec(
        args.format,
        compress=args.compress,
        fixed=args.fixed,
        preallocate=args.preallocate,
        appliance=_appliance(args) if is_package else None,
        signer=_signer(args),
    )
    request = ExportRequest(
        output=args.output,
        container=container,
        snapshot=args.snapshot,
        disk_bytes=parse_size(args.disk_size) if args.disk_size else 0,
        verify=not args.no_verify,
        reach=reach_from(args),
        overwrite_device=args.overwrite_device,
    )
    result = export_image(args.image, request, ui.progress)
    ui.show(lambda: export_to_json(result), lambda out: show_export(result, out))
    return 0


def _appliance(args: argparse.Namespace) -> Appliance:
    from zeroseal.images.ova.descriptor import Appliance

    memory = parse_size(args.memory)
    if not 1 <= args.cpus <= 512 or memory < 1 << 20:
        raise UsageError(messages.MACHINE_NEEDS_CPU_AND_MEMORY)
    name = args.name or args.output.stem
    if not name.isprintable() or any(char in name for char in '/\\:*?"<>|') or len(name) > 80:
        raise UsageError(messages.INVALID_OVA_MACHINE_NAME.format(name=name))
    return Appliance(name, args.cpus, memory, args.uefi)


def _signer(args: argparse.Namespace) -> Signer | None:
    if args.sign_key is None and args.certificate is None:
        return None
    if args.format != "ova":
        raise UsageError(messages.SIGNED_MANIFEST_NEEDS_OVA)
    if args.sign_key is None or args.certificate is None:
        raise UsageError(messages.SIGN_KEY_NEEDS_CERTIFICATE)
    from zeroseal.images.ova.manifest import Signer

    return Signer.read(args.sign_key, args.certificate)
