"""A Dask cluster on this computer, whose workers can be killed."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

_START_SECONDS = 60.0


@dataclass
class Cluster:
    """A scheduler and its workers, each a process of its own."""

    folder: Path
    workers: list[subprocess.Popen[bytes]] = field(default_factory=list)

    @property
    def file(self) -> Path:
        return self.folder / "scheduler.json"

    def start(self, *words: str) -> subprocess.Popen[bytes]:
        with (self.folder / "log").open("ab") as log:
            return subprocess.Popen(
                [sys.executable, "-m", "dask", *words], stdout=log, stderr=log,
                env=os.environ | {"DASK_DISTRIBUTED__ADMIN__TICK__LIMIT": "60s"},
            )  # fmt: skip

    def add_worker(self, *more: str, inside: tuple[str, ...] = ()) -> subprocess.Popen[bytes]:
        """Starts one with one thread; ``inside`` are the words of a program that starts it."""
        number = len(self.workers)
        words = [
            *inside, sys.executable, "-m", "dask", "worker", "--scheduler-file", str(self.file),
            "--nthreads", "1", "--no-nanny", "--no-dashboard", "--name", f"w{number}",
            "--local-directory", str(self.folder / f"w{number}"), *more,
        ]  # fmt: skip
        with (self.folder / "log").open("ab") as log:
            worker = subprocess.Popen(words, stdout=log, stderr=log)
        self.workers.append(worker)
        return worker

    def wait_for(self, count: int) -> None:
        """Waits until so many workers are there."""
        from distributed import Client

        connect = Client  # its methods have no types
        with connect(scheduler_file=str(self.file), set_as_default=False) as client:  # type: ignore[no-untyped-call]
            client.wait_for_workers(count, timeout=_START_SECONDS)


@contextmanager
def cluster(folder: Path, workers: int) -> Iterator[Cluster]:
    """Starts a scheduler with workers; ends all of them."""
    folder.mkdir(parents=True)
    made = Cluster(folder)
    scheduler = made.start(
        "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard",
        "--scheduler-file", str(made.file),
    )  # fmt: skip
    try:
        end = time.monotonic() + _START_SECONDS
        while not made.file.is_file() and time.monotonic() < end:
            time.sleep(0.1)
        for _ in range(workers):
            made.add_worker()
        if workers:
            made.wait_for(workers)
        yield made
    finally:
        for process in (*made.workers, scheduler):
            process.kill()
            process.wait()
