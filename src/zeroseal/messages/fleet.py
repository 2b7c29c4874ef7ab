"""Messages about many images and clusters."""

# fleet/task.py
FILE_NOT_SEEN = (
    "the worker {worker} cannot read {path} ({reason}): images must lie where all workers see them "
    "under the same path"
)
ANOTHER_FILE_SEEN = (
    "the worker {worker} sees another file at {path}: images must lie where all workers see them "
    "under the same path"
)

# fleet/cluster.py
NOT_A_SCHEDULER = (
    "there is no scheduler file {scheduler}: name one, or an address such as tcp://host:8786, with "
    "--on"
)
SCHEDULER_DOES_NOT_ANSWER = (
    "the scheduler {scheduler} does not answer ({reason}): start one with dask scheduler, or leave "
    "out --on to use this computer"
)
NO_WORKERS = (
    "the scheduler {scheduler} has no workers: start some with dask worker {scheduler}, or leave "
    "out --on to use this computer"
)
WORKER_WITHOUT_PROGRAM = (
    "the worker {worker} cannot run zeroseal ({reason}): run pip install 'zeroseal[fleet]' in its "
    "environment"
)
WORKERS_OF_OTHER_VERSIONS = (
    "this is zeroseal {own}, and other versions are installed on {workers}: install the same "
    "version on all workers"
)
TOO_LITTLE_MEMORY = (
    "no worker states more than {most} as its resource memory, and an image needs {needed}: start "
    "workers with more, or without that resource"
)
SCHEDULER_GONE = (
    "the scheduler ended while it was needed: start it again, and repeat the command; what was "
    "finished stays"
)
WORKERS_GONE = (
    "all workers are gone, and none came within {seconds} s: start some, and repeat the command; "
    "what was finished stays"
)
WORKERS_DIED = (
    "every worker that began it died: see their logs, and check whether they have enough memory"
)
SIDE_NOT_READ = "{path} could not be read on the cluster: {reason}"
WORKER_FAILED = "the worker could not run it: {reason}"

# fleet/worker.py
WORKER_OF_ANOTHER_VERSION = (
    "the worker {worker} has zeroseal {version}, and this is {own}: install the same version"
)

# fleet/state.py
STATE_UNREADABLE = (
    "{path} is not a state file of zeroseal check: name another file, or delete it to begin again"
)

# fleet/since.py
SINCE_NOT_A_TIME = "--since takes a time such as 2026-12-01 or 2026-12-01T22:00, not {moment!r}"
