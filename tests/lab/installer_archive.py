#!/usr/bin/env python3
"""A local Debian archive for Debian's own installer, made from fetched packages and served here.

    installer_archive.py FOLDER [PORT]

The indexes are made: the installer's packages that the mirror still has, with those that it lacks
(modules of the installer's own kernel, e2fsprogs) built from ordinary packages, and of the ordinary
ones those that an installation can ask for, so that an emulated machine has little to read. They are
signed with a key made for this archive, which the initrd brings along for the installer and for the
installed system. Packages are fetched when they are first asked for. The installer's kernel and initrd
are put beside, as ``FOLDER/linux`` and ``FOLDER/initrd.gz``. Needs: dpkg-deb, gpg, cpio, a mirror.
"""

from __future__ import annotations

import concurrent.futures
import hashlib
import lzma
import re
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

MIRROR = "http://deb.debian.org/debian"
SUITE = "trixie"
INSTALLER = "debian-installer-13-netboot-amd64"
WANTED = (
    "linux-image-cloud-amd64", "linux-image-amd64", "grub-efi-amd64-signed", "grub-efi-amd64",
    "grub-pc", "shim-signed", "openssh-server", "qemu-guest-agent", "tasksel", "eject", "busybox",
    "os-prober", "efibootmgr", "locales", "console-setup", "keyboard-configuration", "sudo",
    "initramfs-tools", "discover", "laptop-detect", "installation-report", "popularity-contest",
    "zstd", "dosfstools", "grub-efi", "mokutil", "e2fsprogs", "pciutils", "usbutils", "dbus", "systemd-timesyncd", "cloud-init", "tpm2-tools",
)  # fmt: skip
# of the installer's kernel, what a virtual machine with disks of virtio, SATA or SCSI needs
MODULES = (
    "fs/ext4", "fs/jbd2", "fs/mbcache.ko", "fs/fat", "fs/nls", "fs/isofs", "drivers/block/virtio_blk.ko",
    "drivers/scsi/virtio_scsi.ko", "drivers/scsi/sd_mod.ko", "drivers/scsi/sr_mod.ko", "drivers/ata/ahci.ko",
    "drivers/ata/libahci.ko", "drivers/ata/libata.ko", "drivers/cdrom", "drivers/scsi/scsi_mod.ko",
    "drivers/scsi/scsi_common.ko", "lib/crc16.ko", "crypto/crc32c_generic.ko", "lib/libcrc32c.ko",
    "arch/x86/crypto/crc32c-intel.ko", "drivers/block/loop.ko", "drivers/nvme", "lib/crc-t10dif.ko",
    "crypto/crct10dif_generic.ko", "crypto/crct10dif_common.ko", "block/t10-pi.ko", "lib/crc64-rocksoft.ko",
    "crypto/crc64_rocksoft_generic.ko", "lib/crc64.ko", "fs/efivarfs",
)  # fmt: skip
# what one plain disk needs nothing of, and what asks where its kernel modules are not there
LEFT_OUT = re.compile(
    r"partman-(auto-(raid|lvm|crypto)|crypto.*|md|lvm|iscsi|nbd|multipath|btrfs|jfs|xfs|f2fs|cros)"
    r"|(md|lvm|multipath|kpartx|cryptsetup|btrfs|jfs|xfs|f2fs|ntfs|open-iscsi|libisns|rescue|brltty"
    r"|fonts?-|espeak|dmraid|dmsetup|nbd-|zfs|reiser).*|.*gtk.*"
)
E2FSPROGS = ("e2fsprogs", "libext2fs2t64", "libcom-err2", "libss2", "logsave")
_PROBES = 24


def fetch(path: str) -> bytes:
    with urllib.request.urlopen(f"{MIRROR}/{path}", timeout=180) as answer:
        return bytes(answer.read())


def exists(path: str) -> bool:
    request = urllib.request.Request(f"{MIRROR}/{path}", method="HEAD")
    for _try in range(3):
        try:
            with urllib.request.urlopen(request, timeout=60):
                return True
        except urllib.error.HTTPError as error:
            if error.code == 404:
                return False
        except OSError:
            time.sleep(1)
    return False


def stanzas(text: str) -> Iterator[dict[str, str]]:
    """The paragraphs of an index; continued lines stay as they are."""
    for block in text.split("\n\n"):
        if block.strip():
            fields = re.findall(r"^([A-Za-z0-9-]+):[ ]?((?:.*)(?:\n[ \t].*)*)", block, re.MULTILINE)
            yield dict(fields)


def write(fields: dict[str, str]) -> str:
    return "".join(f"{key}: {value}\n" for key, value in fields.items())


def names_in(text: str) -> Iterator[str]:
    """All the names in a list of dependencies, alternatives too."""
    for part in re.split(r"[,|]", text):
        name = re.sub(r"[ (\[<:].*", "", part.strip(), flags=re.DOTALL)
        if name:
            yield name


class Archive:
    """One archive in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.root = folder / "debian"

    def make(self) -> None:
        """Makes indexes, built packages, kernel and initrd; what is there is not made again."""
        if (self.folder / "made").exists():
            return
        index = lzma.decompress(fetch(f"dists/{SUITE}/main/binary-amd64/Packages.xz")).decode()
        packages = {item["Package"]: item for item in stanzas(index)}
        kernel = self._unpack_installer(packages[INSTALLER])
        small = lzma.decompress(
            fetch(f"dists/{SUITE}/main/debian-installer/binary-amd64/Packages.xz")
        ).decode()
        udebs = [
            u
            for u in stanzas(small)
            if u.get("Kernel-Version", kernel) == kernel and not LEFT_OUT.fullmatch(u["Package"])
        ]
        with concurrent.futures.ThreadPoolExecutor(_PROBES) as pool:
            there = list(pool.map(lambda item: exists(item["Filename"]), udebs))
        kept = [item for item, found in zip(udebs, there, strict=True) if found]
        known = {item["Package"] for item in kept}
        made = [self._build_modules(kernel, packages)]
        if "e2fsprogs-udeb" not in known:
            made.append(self._build_e2fsprogs(packages))
        self._write_index("main/debian-installer", [*kept, *made])
        self._write_index("main", [packages[name] for name in sorted(closure(packages))])
        self._write_release()
        (self.folder / "made").touch()

    def _unpack_installer(self, package: dict[str, str]) -> str:
        """Puts kernel and initrd into the folder; returns the kernel's version."""
        with tempfile.TemporaryDirectory() as temporary:
            deb = Path(temporary) / "installer.deb"
            deb.write_bytes(fetch(package["Filename"]))
            subprocess.run(["dpkg-deb", "-x", deb, temporary], check=True)
            found = next(Path(temporary).rglob("text/debian-installer/amd64"))
            self.folder.mkdir(parents=True, exist_ok=True)
            for name, kept in (("linux", "linux"), ("initrd.gz", "initrd.plain")):
                (self.folder / kept).write_bytes((found / name).read_bytes())
        head = (self.folder / "linux").read_bytes()
        # Documentation/arch/x86/boot.rst: kernel_version is at 0x20E, from 0x200
        start = 0x200 + int.from_bytes(head[0x20E:0x210], "little")
        return head[start : start + 100].split(b" ")[0].decode()

    def _build_modules(self, kernel: str, packages: dict[str, dict[str, str]]) -> dict[str, str]:
        name = f"linux-image-{kernel}"
        with tempfile.TemporaryDirectory() as temporary:
            source, tree = Path(temporary) / "image", Path(temporary) / "tree"
            self._unpack(packages[name], source)
            (base,) = source.glob("**/lib/modules/*/kernel")
            target = tree / "lib/modules" / kernel / "kernel"
            for wanted in MODULES:
                files = (
                    [base / wanted] if wanted.endswith(".ko") else list((base / wanted).rglob("*"))
                )
                for path in files:
                    for real in (
                        path.parent.glob(path.name + "*") if path.suffix == ".ko" else [path]
                    ):
                        if real.is_file():
                            to = target / real.relative_to(base)
                            to.parent.mkdir(parents=True, exist_ok=True)
                            to.write_bytes(real.read_bytes())
            fields = {
                "Package": f"disk-modules-{kernel}-di",
                "Version": packages[name]["Version"],
                "Priority": "standard",
                "Kernel-Version": kernel,
                "Provides": "ext4-modules, scsi-modules, ata-modules, fat-modules, virtio-modules",
                "Description": "modules for disks, taken from the kernel's own package",
            }
            script = "#!/bin/sh\ndepmod -a\nmodprobe virtio_blk || true\nmodprobe ext4 || true\n"
            return self._build(tree, fields, script)

    def _build_e2fsprogs(self, packages: dict[str, dict[str, str]]) -> dict[str, str]:
        with tempfile.TemporaryDirectory() as temporary:
            source, tree = Path(temporary) / "source", Path(temporary) / "tree"
            for name in E2FSPROGS:
                if name in packages:
                    self._unpack(packages[name], source)
            for path in source.rglob("*"):
                inside = str(path.relative_to(source))
                if re.search(r"sbin/(mke2fs|mkfs\.ext[234]|e2fsck|fsck\.ext[234]|tune2fs|resize2fs)$"
                             r"|/lib(ext2fs|e2p|com_err|ss)\.so\.[0-9.]*$|mke2fs\.conf$", inside):  # fmt: skip
                    to = tree / inside
                    to.parent.mkdir(parents=True, exist_ok=True)
                    if path.is_symlink():
                        to.symlink_to(path.readlink())
                    else:
                        to.write_bytes(path.read_bytes())
                        to.chmod(path.stat().st_mode)
            fields = {
                "Package": "e2fsprogs-udeb",
                "Version": packages["e2fsprogs"]["Version"],
                "Priority": "extra",
                "Description": "tools for ext, taken from the ordinary packages",
            }
            return self._build(tree, fields)

    def _unpack(self, package: dict[str, str], target: Path) -> None:
        target.mkdir(exist_ok=True)
        with tempfile.NamedTemporaryFile(suffix=".deb") as file:
            file.write(fetch(package["Filename"]))
            file.flush()
            subprocess.run(["dpkg-deb", "-x", file.name, target], check=True)

    def _build(self, tree: Path, fields: dict[str, str], script: str = "") -> dict[str, str]:
        control = tree / "DEBIAN"
        control.mkdir()
        fields = {  # the installer's parser wants the name first
            **fields,
            "Maintainer": "Saltmarsh Ferries <piers@saltmarsh.example>",
            "Section": "debian-installer",
            "Architecture": "amd64",
        }
        (control / "control").write_text(write(fields))
        if script:
            (control / "postinst").write_text(script)
            (control / "postinst").chmod(0o755)
        name = f"pool/made/{fields['Package']}_{fields['Version']}_amd64.udeb"
        target = self.root / name
        target.parent.mkdir(parents=True, exist_ok=True)
        subprocess.run(
            ["dpkg-deb", "--root-owner-group", "-Zxz", "-b", tree, target],
            check=True,
            stdout=subprocess.DEVNULL,
        )
        raw = target.read_bytes()
        sums = {"Size": str(len(raw)), "SHA256": hashlib.sha256(raw).hexdigest()}
        return {**fields, "Filename": name, **sums, "MD5sum": hashlib.md5(raw).hexdigest()}

    def _write_index(self, component: str, items: list[dict[str, str]]) -> None:
        folder = self.root / f"dists/{SUITE}/{component}/binary-amd64"
        folder.mkdir(parents=True, exist_ok=True)
        raw = "\n".join(write(item) for item in items).encode()
        (folder / "Packages").write_bytes(raw)
        (folder / "Packages.xz").write_bytes(lzma.compress(raw))

    def _write_release(self) -> None:
        base = self.root / f"dists/{SUITE}"
        files = sorted(path for path in base.rglob("Packages*") if path.is_file())
        lines = [
            "Origin: Debian", "Label: Debian", "Suite: stable", f"Codename: {SUITE}", "Version: 13",
            "Architectures: amd64", "Components: main", "Date: Tue, 01 Dec 2026 00:00:00 UTC",
        ]  # fmt: skip
        for kind, make in (("MD5Sum", hashlib.md5), ("SHA256", hashlib.sha256)):
            lines.append(f"{kind}:")
            for path in files:
                raw = path.read_bytes()
                lines.append(f" {make(raw).hexdigest()} {len(raw)} {path.relative_to(base)}")
        (base / "Release").write_text("\n".join(lines) + "\n")
        self._sign(base)
        part = (
            "Archive: stable\nOrigin: Debian\nLabel: Debian\nComponent: main\nArchitecture: amd64\n"
        )
        (base / "main/binary-amd64/Release").write_text(part)
        stable = self.root / "dists/stable"
        if not stable.exists():
            stable.symlink_to(SUITE)

    def _sign(self, base: Path) -> None:
        """Signs the Release file, and lets the initrd bring the key along."""
        home = self.folder / "gnupg"
        home.mkdir(mode=0o700, exist_ok=True)
        gpg = [
            "gpg",
            "--homedir",
            str(home),
            "--batch",
            "--yes",
            "--quiet",
            "--pinentry-mode",
            "loopback",
        ]
        if not (home / "made").exists():
            make = [
                "--passphrase",
                "",
                "--quick-gen-key",
                "piers@saltmarsh.example",
                "rsa3072",
                "sign",
            ]
            subprocess.run([*gpg, *make, "never"], check=True)
            (home / "made").touch()
        key = subprocess.run([*gpg, "--export"], check=True, capture_output=True).stdout
        release = base / "Release"
        subprocess.run([*gpg, "-b", "--armor", "-o", f"{release}.gpg", release], check=True)
        subprocess.run([*gpg, "--clearsign", "-o", base / "InRelease", release], check=True)
        with tempfile.TemporaryDirectory() as temporary:
            tree = Path(temporary)
            # with the key of Debian, which the installer would take too
            self._put(tree / "usr/share/keyrings/archive.gpg", self._keyring() + key)
            self._put(tree / "usr/share/keyrings/saltmarsh.gpg", key)
            hook = (
                "#!/bin/sh\nmkdir -p /target/etc/apt/trusted.gpg.d\n"
                "cp /usr/share/keyrings/saltmarsh.gpg /target/etc/apt/trusted.gpg.d/\n"
            )
            for name in (
                "usr/lib/base-installer.d/05saltmarsh",
                "usr/lib/post-base-installer.d/05saltmarsh",
            ):
                self._put(tree / name, hook.encode(), 0o755)
            words = "find . -mindepth 1 | cpio -o -H newc --quiet -R 0:0"
            more = subprocess.run(
                words, shell=True, cwd=tree, check=True, capture_output=True
            ).stdout
        plain = (self.folder / "initrd.plain").read_bytes()
        (self.folder / "initrd.gz").write_bytes(plain + bytes(-len(plain) % 4) + more)

    def _keyring(self) -> bytes:
        """The keyring that the initrd has."""
        words = f"zcat {self.folder / 'initrd.plain'} | cpio -i --quiet --to-stdout '*usr/share/keyrings/archive.gpg'"
        return subprocess.run(words, shell=True, capture_output=True, check=False).stdout

    @staticmethod
    def _put(path: Path, content: bytes, mode: int = 0o644) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)
        path.chmod(mode)


def closure(packages: dict[str, dict[str, str]]) -> set[str]:
    """What an installation can ask for: by priority, by wish, and what those need or propose."""
    providers: dict[str, list[str]] = {}
    for name, item in packages.items():
        for provided in names_in(item.get("Provides", "")):
            providers.setdefault(provided, []).append(name)
    todo = [n for n, item in packages.items() if item.get("Priority") in ("required", "important")]
    todo += [name for name in WANTED if name in packages]
    found: set[str] = set()
    while todo:
        name = todo.pop()
        if name in found or name not in packages:
            continue
        found.add(name)
        item = packages[name]
        for key in ("Pre-Depends", "Depends"):
            for needed in names_in(item.get(key, "")):
                todo.append(needed)
                if needed not in packages:
                    todo += providers.get(needed, [])[:3]
    return found


def serve(archive: Archive, port: int = 0) -> ThreadingHTTPServer:
    """Serves it on the loopback address, in threads; packages are fetched at the first request."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_HEAD(self) -> None:
            self._answer(with_body=False)

        def do_GET(self) -> None:
            self._answer(with_body=True)

        def _answer(self, with_body: bool) -> None:
            name = urllib.request.url2pathname(self.path.split("?")[0]).lstrip("/")
            path = archive.folder / name
            try:
                if not path.is_file() and name.startswith("debian/pool/"):
                    raw = fetch(name.removeprefix("debian/"))
                    path.parent.mkdir(parents=True, exist_ok=True)
                    part = path.with_name(f"{path.name}.{threading.get_ident()}")
                    part.write_bytes(raw)
                    part.rename(path)
                raw = path.read_bytes()
            except OSError:
                self.send_error(404)
                return
            self.send_response(200)
            self.send_header("Content-Length", str(len(raw)))
            self.end_headers()
            if with_body:
                self.wfile.write(raw)

        def log_message(self, text: str, *words: object) -> None:
            with (archive.folder / "requests.log").open("a") as log:
                log.write(f"{time.strftime('%H:%M:%S')} {text % words}\n")

    server = ThreadingHTTPServer(("127.0.0.1", port), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return server


if __name__ == "__main__":
    made = Archive(Path(sys.argv[1]).resolve())
    made.make()
    running = serve(made, int(sys.argv[2]) if len(sys.argv) > 2 else 0)
    print(f"http://127.0.0.1:{running.server_port}/debian", flush=True)
    threading.Event().wait()
