"""Messages about folders and tar archives that hold a root file system."""

# filesystems/plain/folder.py
NOT_FOLDER = "{path} is not a folder"
FOLDERS_NOT_SUPPORTED_ON_THIS_SYSTEM = "{path}: folders can be read safely on Linux and macOS only"
CANNOT_BE_OPENED = "{shown} in {path} cannot be opened ({error})"

# filesystems/plain/tar.py
TOO_MANY_MEMBERS = "{path} has more than {most_members} members"
MEMBER_TYPE_NOT_SUPPORTED = "{path} holds {name}, a member of a type that is not supported"
MEMBER_LEADS_OUTSIDE = "{path} contains {name}, which leads outside the archive: refused"
NOT_FOUND = "{path} was not found"
NOT_READABLE_TAR_ARCHIVE = "{path} is not a readable tar archive ({error})"
TRUNCATED_OR_DAMAGED = "{path} is truncated or damaged ({error})"
MEMBERS_BELOW_A_FILE = "{path} has members below {part}, which is not a folder in the archive"

# filesystems/plain/tree.py
NO_SECOND_NAME = "{where} cannot hold a second name for a file ({name!r})"
