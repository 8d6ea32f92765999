"""Files that were uploaded and are not needed any more."""

import shutil
from pathlib import Path


def delete_upload(path: Path) -> None:
    """Remove an uploaded file or a folder left by one."""
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
