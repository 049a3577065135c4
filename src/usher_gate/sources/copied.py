"""Files that are taken as they are.

What people write by hand, tables of the snapshot's own form, and logs of sign-ins.
"""

from __future__ import annotations

from pathlib import Path

from .interface import Context, Gathered, Provides, SourceFailed


class Files:
    """Files to copy, by their own names."""

    def __init__(self, paths: tuple[str, ...]) -> None:
        self._paths = paths
        self.gives = Provides(frozenset(Path(path).stem for path in paths))

    def gather(self, context: Context) -> Gathered:
        """Return the files; raises SourceFailed."""
        found = Gathered()
        for name in self._paths:
            path = context.folder / name
            if not path.is_file():
                raise SourceFailed(f"{path}: does not exist")
            found.files[path.name] = path
        return found


class SignIns:
    """A log of sign-ins: copied into the snapshot, or only referred to."""

    gives = Provides(frozenset(("sign_ins",)))

    def __init__(self, path: str, copy: bool) -> None:
        self._path, self._copy = path, copy

    def gather(self, context: Context) -> Gathered:
        """Return the log; raises SourceFailed."""
        from ..files.sign_ins import sign_in_files

        path = context.folder / self._path
        if not path.exists():
            raise SourceFailed(f"{path}: does not exist")
        files = sign_in_files(path)
        found = Gathered()
        if not self._copy:
            found.notes.append(f"sign-ins are not copied: usher-gate rehearse --sign-ins {self._path}")
            return found
        if len(files) > 1:
            raise SourceFailed(
                f"{path}: holds {len(files)} files; refer to a folder with copy = false, or name one file"
            )
        (file,) = files
        assert isinstance(file, Path)
        found.files[f"sign_ins{'.jsonl' if file.suffix == '.ndjson' else file.suffix}"] = file
        return found
