"""OVA archives: ours taken apart by tar, openssl and qemu-img; others' put together by hand."""

from __future__ import annotations

import contextlib
import gzip
import hashlib
import tarfile
from pathlib import Path
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.containers import SIZE, make_image, pattern
from tests.oracles import run, to_raw
from zeroseal.errors import DamagedError, MissingError, UnsupportedError, UsageError, ZeroSealError
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import open_image
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.ova.descriptor import Appliance
from zeroseal.images.ova.manifest import Signer

OVF = (
    '<?xml version="1.0"?>\n<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/{version}" '
    'xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/{version}"><References>'
    '<File ovf:id="f" ovf:href="{href}" ovf:size="1" {more}/></References><DiskSection><Info/>'
    '<Disk ovf:diskId="d" ovf:fileRef="f" ovf:capacity="{size}"/>{disks}</DiskSection></Envelope>'
)


def keys(folder: Path) -> tuple[Path, Path]:
    run("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "9000", "-subj",
        "/CN=Saltmarsh Ferries", "-keyout", folder / "k.pem", "-out", folder / "c.pem")  # fmt: skip
    return folder / "k.pem", folder / "c.pem"


def test_an_archive_of_ours_holds_what_others_look_for(tmp_path: Path) -> None:
    key, certificate = keys(tmp_path)
    spec = ContainerSpec(
        "ova",
        appliance=Appliance("gate & ferry", 4, 3 << 30, uefi=True),
        signer=Signer.read(key, certificate),
    )
    content = pattern()
    path = make_image(tmp_path / "a.ova", spec, content)
    out = tmp_path / "out"
    out.mkdir()
    run("tar", "-C", out, "-xf", path)
    names = ["gate & ferry.ovf", "gate & ferry-disk1.vmdk", "gate & ferry.mf", "gate & ferry.cert"]
    assert run("tar", "-tf", path).splitlines() == names
    root = ElementTree.fromstring((out / names[0]).read_bytes())
    text = (out / names[0]).read_text()
    assert f'ovf:size="{(out / names[1]).stat().st_size}"' in text
    assert f'ovf:capacity="{SIZE}"' in text
    assert "<rasd:VirtualQuantity>3072<" in text
    assert 'vmw:value="efi"' in text
    order = [item.tag for item in root.iter() if "VirtualHardwareSection" in item.tag]
    assert len(order) == 1
    for line in (out / names[2]).read_text().splitlines():
        name, _equals, digest = line.removeprefix("SHA256(").partition(")= ")
        assert hashlib.sha256((out / name).read_bytes()).hexdigest() == digest
    signature = (out / names[3]).read_text().splitlines()[0].partition("= ")[2]
    (tmp_path / "sig").write_bytes(bytes.fromhex(signature))
    run("openssl", "x509", "-in", certificate, "-pubkey", "-noout", "-out", tmp_path / "pub.pem")
    run("openssl", "dgst", "-sha256", "-verify", tmp_path / "pub.pem", "-signature",
        tmp_path / "sig", out / names[2])  # fmt: skip
    run("qemu-img", "check", out / names[1])
    assert to_raw(out / names[1], tmp_path / "b.raw").read_bytes() == content
    image = open_image(path)
    assert image.read(0, SIZE) == content
    assert "signed by CN=Saltmarsh Ferries" in image.remarks[0]
    image.close()
    with pytest.raises(UnsupportedError, match="cannot be changed in place"):
        InPlaceChange(path)


def package(
    folder: Path,
    disk: Path,
    algorithm: str = "sha256",
    version: int = 1,
    more: str = "",
    **extra: str,
) -> dict[str, bytes]:
    """The files of a package, as another program might make it."""
    values = {"href": disk.name, "size": str(SIZE), "disks": "", "more": more} | extra
    text = OVF.format(version=version, **values).encode()
    files = {"x.ovf": text, disk.name: disk.read_bytes()}
    lines = [
        f"{algorithm.upper()}({name})= {hashlib.new(algorithm, raw).hexdigest()}\n"
        for name, raw in files.items()
    ]
    files["x.mf"] = "".join(lines).encode()
    for name, raw in files.items():
        (folder / name).write_bytes(raw)
    return files


def archive(folder: Path, files: dict[str, bytes]) -> Path:
    for name, raw in files.items():
        (folder / name).write_bytes(raw)
    with tarfile.open(folder / "x.ova", "w", format=tarfile.USTAR_FORMAT) as tar:
        for name in files:
            tar.add(folder / name, arcname=name)
    return folder / "x.ova"


@pytest.mark.parametrize("algorithm", ["sha1", "sha256", "sha512"])
@pytest.mark.parametrize("kind", ["vmdk", "vhd", "qcow2", "gzip"])
def test_packages_of_others_are_read_and_verified(
    tmp_path: Path, algorithm: str, kind: str
) -> None:
    content, more = pattern(4), ""
    name = "vmdk" if kind == "gzip" else kind
    disk = make_image(
        tmp_path / f"d.{name}", ContainerSpec(name, "small" if name == "vmdk" else ""), content
    )
    if kind == "gzip":
        disk.write_bytes(gzip.compress(disk.read_bytes()))
        more = 'ovf:compression="gzip"'
    version = 2 if algorithm == "sha512" else 1
    files = package(tmp_path, disk, algorithm, version, more)
    for path in (archive(tmp_path, files), tmp_path / "x.ovf"):
        image = open_image(path)
        assert image.read(0, SIZE) == content
        assert image.variant.startswith(f"OVF {version}, {name}")
        assert "matches its manifest" in image.remarks[0]
        image.close()
    files[disk.name] = files[disk.name][:-1] + b"!"
    with pytest.raises(DamagedError, match="digest in the manifest"):
        open_image(archive(tmp_path, files))
    del files["x.mf"]
    if kind != "gzip":
        assert "no manifest" in open_image(archive(tmp_path, files)).remarks[0]


@pytest.mark.parametrize(
    ("extra", "told"),
    [
        ({"href": "../../etc/passwd"}, "outside the package"),
        ({"href": "gone.vmdk"}, "does not list gone.vmdk"),
        ({"more": 'ovf:chunkSize="100"'}, "in chunks"),
        ({"more": 'ovf:compression="bzip2"'}, "compressed with bzip2"),
        ({"disks": '<Disk ovf:diskId="e" ovf:fileRef="f"/>'}, "has 2 disks"),
        ({"disks": "<Disk"}, "not valid XML"),
    ],
    ids=str,
)
def test_what_cannot_be_handled_is_named(tmp_path: Path, extra: dict[str, str], told: str) -> None:
    disk = make_image(tmp_path / "d.vmdk", ContainerSpec("vmdk", compress="small"), pattern())
    files = package(tmp_path, disk, **extra)  # type: ignore[arg-type]  # all are texts
    with pytest.raises((UnsupportedError, DamagedError, MissingError), match=told):
        open_image(archive(tmp_path, files))


def test_a_disk_that_reaches_out_of_its_package_is_refused(tmp_path: Path) -> None:
    (tmp_path / "secret.raw").write_bytes(b"precious" * 100_000)
    disk = tmp_path / "d.qcow2"
    run("qemu-img", "create", "-f", "qcow2", "-b", "secret.raw", "-F", "raw", disk)
    with pytest.raises(UnsupportedError, match="files outside the package"):
        open_image(archive(tmp_path, package(tmp_path, disk)))
    text = package(tmp_path, disk)["x.ovf"].replace(b"<Envelope", b"<!DOCTYPE a><Envelope", 1)
    with pytest.raises(UnsupportedError, match="document type"):
        open_image(archive(tmp_path, {"x.ovf": text}))
    with pytest.raises(UnsupportedError, match="without an OVF"):
        open_image(archive(tmp_path, {"readme": b"x"}))


def test_a_signature_of_another_manifest_does_not_hold(tmp_path: Path) -> None:
    key, certificate = keys(tmp_path)
    disk = make_image(tmp_path / "d.vmdk", ContainerSpec("vmdk", compress="small"), pattern())
    files = package(tmp_path, disk)
    files["x.cert"] = Signer.read(key, certificate).sign("x.mf", files["x.mf"] + b"\n")
    with pytest.raises(DamagedError, match="has an invalid signature:"):
        open_image(archive(tmp_path, files))
    with pytest.raises(UsageError, match="private key"):
        Signer.read(certificate, certificate)
    with pytest.raises(MissingError):
        Signer.read(tmp_path / "none", certificate)


@given(data=st.data())
def test_damaged_packages_raise_only_our_errors(tmp_path: Path, data: st.DataObject) -> None:
    path = tmp_path / "a.ova"
    if not path.exists():
        make_image(path, ContainerSpec("ova"), pattern(size=1 << 20))
    raw = bytearray(path.read_bytes())
    places = st.one_of(st.integers(0, 3000), st.integers(16_000, 18_000), st.integers(-9000, -1))
    for _ in range(data.draw(st.integers(1, 6))):
        raw[data.draw(places)] = data.draw(st.integers(0, 255))
    raw = raw[: data.draw(st.sampled_from([len(raw), len(raw), 600, 17_500, len(raw) - 11_000]))]
    (tmp_path / "b.ova").write_bytes(raw)
    with contextlib.suppress(ZeroSealError):
        image = open_image(tmp_path / "b.ova")
        image.read(0, min(image.size_bytes, 1 << 20))
        image.close()
