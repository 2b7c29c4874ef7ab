"""Data that clones share and no seal may empty: databases, and targets of shared storage."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.messages import sealing_linux as messages
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.sealing.remark import Remark
from zeroseal.sentences import listed, some_of

_DATABASES = {
    "PostgreSQL": (
        "/var/lib/postgresql/*/*/global/pg_control",
        "/var/lib/pgsql/**/global/pg_control",
    ),
    "MariaDB or MySQL": ("/var/lib/mysql/ibdata1",),
    "slapd": ("/var/lib/ldap/data.mdb", "/var/lib/ldap/*.bdb", "/etc/ldap/slapd.d/cn=config.ldif"),
    "RabbitMQ": ("/var/lib/rabbitmq/mnesia/*/schema.DAT",),
    "MongoDB": ("/var/lib/mongodb/WiredTiger", "/var/lib/mongo/WiredTiger"),
    "Redis": ("/var/lib/redis/*.rdb", "/var/lib/redis/appendonlydir/*"),
    "Mosquitto": ("/var/lib/mosquitto/*.db",),
    "etcd": ("/var/lib/etcd/**/snap/db",),
    "InfluxDB": ("/var/lib/influxdb/meta/meta.db", "/var/lib/influxdb/influxd.bolt"),
    "389 Directory Server": ("/var/lib/dirsrv/*/db/DBVERSION",),
    "CouchDB": ("/var/lib/couchdb/_dbs.couch",),
}  # fmt: skip
_NAMED_AFTER_HOST = "/var/lib/rabbitmq/mnesia/rabbit@*"
_TARGETS = ("/var/lib/iscsi/nodes/*", "/etc/iscsi/nodes/*", "/var/lib/iscsi/send_targets/*",
            "/etc/iscsi/send_targets/*")  # fmt: skip


def describe_databases(projected: ProjectedLinux) -> Iterator[Remark]:
    """Remarks on what all clones would have the same and no tool can make anew for them."""
    guest = projected.guest
    names = [name for name, patterns in _DATABASES.items() if any(map(guest.glob, patterns))]
    if names:
        yield Remark("shared-databases", messages.DATABASES_STAY.format(names=listed(names)))
    folders = [path for path in guest.glob(_NAMED_AFTER_HOST) if guest.is_folder(path)]
    for path in [path for path in folders if "-plugins-" not in path][:1]:
        yield Remark("named-databases", messages.DATABASE_NAMED_AFTER_HOST.format(path=path))
    targets = [path for pattern in _TARGETS for path in guest.glob(pattern)]
    if targets:
        yield Remark("storage-targets", messages.STORAGE_TARGETS.format(paths=some_of(targets)))
