"""Tasks on this computer's processors."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from zeroseal.fleet.programs import Programs
from zeroseal.fleet.task import Course, Outcome, Task


@dataclass
class LocalRunner:
    """See ``Runner``; outcomes come in the order of the tasks.

    Attributes:
        jobs: how many run at the same time.
    """

    jobs: int
    is_far: bool = False
    _programs: Programs = field(default_factory=Programs)

    def run(self, tasks: list[Task], course: Course) -> Iterator[tuple[int, Outcome]]:
        """See ``Runner.run``."""

        def work(task: Task) -> Outcome:
            reason = course.may_begin()
            if reason:
                return Outcome(None, unbegun=reason)
            outcome = self._programs.run(task.words)
            course.ended(outcome)
            return outcome

        pool = ThreadPoolExecutor(self.jobs)
        try:
            futures = [pool.submit(work, task) for task in tasks]
            for number, future in enumerate(futures):
                yield number, future.result()
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            self.close()
            raise
        pool.shutdown()

    def close(self) -> None:
        """Ends all that runs."""
        self._programs.close()
