"""Tasks on an existing Dask cluster, through ``distributed``.

Images lie on storage that all workers see under the same path, which each task proves. What a
worker was doing when it died is done again by another one.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from queue import Empty, Queue
from typing import Any
from uuid import uuid4

from zeroseal import __version__
from zeroseal.blocks.sizes import size_text
from zeroseal.errors import HostError
from zeroseal.extras import extra
from zeroseal.fleet import worker
from zeroseal.fleet.task import Course, Outcome, SeenFile, Task, failed
from zeroseal.messages import fleet as messages
from zeroseal.progress import Progress, Step
from zeroseal.sealing.compare import Side
from zeroseal.sealing.policy import Policy
from zeroseal.sentences import some_of

_CONNECT_SECONDS = 10
_MEMORY = "memory"  # what a worker's resource is called
_TASK_BYTES = 768 << 20
_LOOK_SECONDS = 1.0
_ALONE_SECONDS = 60
_AHEAD = 2  # tasks that wait at each thread, so that none is idle


@dataclass
class ClusterRunner:
    """See ``Runner``; outcomes come as they are there.

    Attributes:
        client: connected.
    """

    client: Any  # distributed has no types for its methods
    is_far: bool = True
    _run: str = field(default_factory=lambda: uuid4().hex)
    _known: dict[str, Any] = field(default_factory=dict)
    _asked_at: float = float("-inf")

    @classmethod
    def connect(cls, scheduler: str) -> ClusterRunner:
        """Connects to a scheduler by its address (``tcp://HOST:8786``) or its file.

        Raises:
            MissingExtraError: distributed is not installed.
            HostError: nobody answers, there is no worker, or one of another version.
        """
        with extra("fleet", "--on"):
            from distributed import Client
        connect: Any = Client
        logging.getLogger("distributed").setLevel(logging.CRITICAL + 1)  # we say it ourselves
        is_address = "://" in scheduler
        if not is_address and not Path(scheduler).is_file():
            raise HostError(messages.NOT_A_SCHEDULER.format(scheduler=scheduler))
        where = {"address": scheduler} if is_address else {"scheduler_file": scheduler}
        try:
            client = connect(timeout=_CONNECT_SECONDS, set_as_default=False, **where)
        except (OSError, ValueError, TimeoutError) as error:
            reason = str(error).partition("\n")[0] or type(error).__name__
            raise HostError(
                messages.SCHEDULER_DOES_NOT_ANSWER.format(scheduler=scheduler, reason=reason)
            ) from error
        made = cls(client)
        try:
            made._check_workers(scheduler)
        except BaseException:
            made.close()
            raise
        return made

    def run(self, tasks: list[Task], course: Course) -> Iterator[tuple[int, Outcome]]:
        """See ``Runner.run``."""
        # the largest first, so that none is left alone at the end
        order = sorted(range(len(tasks)), key=lambda number: -tasks[number].size_bytes)
        waiting = iter(order)
        going: dict[str, tuple[int, Any]] = {}  # a future that nobody holds is taken back
        ended: Queue[Any] = Queue()
        try:
            for number in self._next(waiting, self._threads() * _AHEAD):
                yield from self._begin(number, tasks, course, going, ended)
            while going:
                future = self._await(ended)
                number, _held = going.pop(future.key)
                outcome = self._outcome(future)
                course.ended(outcome)
                yield number, outcome
                room = max(1, self._threads() * _AHEAD - len(going))
                for more in self._next(waiting, room):
                    yield from self._begin(more, tasks, course, going, ended)
        finally:
            if going:
                self._cancel([future for _number, future in going.values()])

    def read_sides(
        self, paths: list[Path], policy: Policy, every_file: bool, progress: Progress
    ) -> list[Side]:
        """Reads of each image what ``compare`` compares, in the order of the paths.

        Raises:
            HostError: an image cannot be read on its worker, or the cluster is gone.
        """
        ended: Queue[Any] = Queue()
        futures = [
            self._submit(
                worker.read_side_of,
                SeenFile.look(path.absolute()),
                policy,
                every_file,
                __version__,
            )
            for path in paths
        ]
        try:
            for future in futures:
                future.add_done_callback(ended.put)
            for number in range(len(futures)):
                self._await(ended)
                progress(Step("reading identities", number + 1, len(futures), "images"))
            return [self._side(path, future) for path, future in zip(paths, futures, strict=True)]
        finally:
            with suppress(Exception):
                self.client.cancel(futures, force=True)

    def close(self) -> None:
        """Leaves the cluster as it is."""
        with suppress(Exception):
            self.client.close(timeout=_CONNECT_SECONDS)

    # -- inside

    def _next(self, waiting: Iterator[int], count: int) -> Iterator[int]:
        for _ in range(count):
            number = next(waiting, None)
            if number is None:
                return
            yield number

    def _begin(
        self,
        number: int,
        tasks: list[Task],
        course: Course,
        going: dict[str, tuple[int, Any]],
        ended: Queue[Any],
    ) -> Iterator[tuple[int, Outcome]]:
        reason = course.may_begin()
        if reason:
            yield number, Outcome(None, unbegun=reason)
            return
        task = replace(tasks[number], asked_at=time.time())
        future = self._submit(
            worker.run_task,
            task,
            __version__,
            self._run,
            key=f"zeroseal-{self._run}-{number}",
            priority=task.size_bytes >> 20,
        )
        going[future.key] = number, future
        future.add_done_callback(ended.put)

    def _submit(self, function: Callable[..., Any], *words: Any, **more: Any) -> Any:
        """Hands out a call, with the memory that it takes where workers state theirs."""
        resources = {_MEMORY: _TASK_BYTES} if self._stated_memory() else None
        return self.client.submit(
            function, *words, pure=False, retries=2, resources=resources, **more
        )

    def _await(self, ended: Queue[Any]) -> Any:
        """The next future that is done.

        Raises:
            HostError: the scheduler is gone, or all workers are and none comes.
        """
        alone_since = 0.0
        while True:
            try:
                return ended.get(timeout=_LOOK_SECONDS)
            except Empty:
                pass
            if self.client.status != "running":
                raise HostError(messages.SCHEDULER_GONE)
            now = time.monotonic()
            alone_since = 0.0 if self._workers() else alone_since or now
            if alone_since and now - alone_since > _ALONE_SECONDS:
                raise HostError(messages.WORKERS_GONE.format(seconds=_ALONE_SECONDS))

    def _outcome(self, future: Any) -> Outcome:
        error = self._error_of(future)
        if error is None:
            outcome: Outcome = future.result()
            return outcome
        if type(error).__name__ == "KilledWorker":
            return failed(messages.WORKERS_DIED)
        return failed(messages.WORKER_FAILED.format(reason=str(error).partition("\n")[0]))

    def _error_of(self, future: Any) -> Any:
        """The error of a future that is done; None for none."""
        if future.cancelled():
            raise HostError(messages.SCHEDULER_GONE)
        return future.exception()

    def _side(self, path: Path, future: Any) -> Side:
        error = self._error_of(future)
        found = future.result() if error is None else str(error).partition("\n")[0]
        if isinstance(found, Side):
            return found
        raise HostError(messages.SIDE_NOT_READ.format(path=path, reason=found))

    def _cancel(self, futures: list[Any]) -> None:
        """Takes back what waits, and ends what runs: each program ends in its own way."""
        with suppress(Exception):
            self.client.cancel(futures, force=True)
        with suppress(Exception):
            self.client.run(worker.stop_run, self._run, on_error="ignore")

    def _workers(self) -> dict[str, Any]:
        """All workers; the scheduler is asked at most once a second."""
        now = time.monotonic()
        if now - self._asked_at >= _LOOK_SECONDS:
            self._known = self.client.scheduler_info(n_workers=-1)["workers"]
            self._asked_at = now
        return self._known

    def _threads(self) -> int:
        return max(1, sum(int(item["nthreads"]) for item in self._workers().values()))

    def _stated_memory(self) -> list[float]:
        """What each worker states, in bytes; nothing where one of them states none."""
        found = [item.get("resources", {}).get(_MEMORY) for item in self._workers().values()]
        return [] if None in found else found

    def _check_workers(self, scheduler: str) -> None:
        if not self._workers():
            raise HostError(messages.NO_WORKERS.format(scheduler=scheduler))
        answers = self.client.run(worker.describe, on_error="return")
        for address, answer in answers.items():
            if not isinstance(answer, dict):
                raise HostError(
                    messages.WORKER_WITHOUT_PROGRAM.format(worker=address, reason=answer)
                )
        stated = self._stated_memory()
        if stated and max(stated) < _TASK_BYTES:
            raise HostError(
                messages.TOO_LITTLE_MEMORY.format(
                    most=size_text(int(max(stated))), needed=size_text(_TASK_BYTES)
                )
            )
        others = {
            f"{answer['host']} ({answer['version']})"
            for answer in answers.values()
            if answer["version"] != __version__
        }
        if others:
            raise HostError(
                messages.WORKERS_OF_OTHER_VERSIONS.format(
                    own=__version__, workers=some_of(sorted(others))
                )
            )
