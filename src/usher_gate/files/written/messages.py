"""Messages drafted for people: one file for each text (RFC 5322), and a table of who gets which. Nothing is sent."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from email.message import EmailMessage
from email.policy import SMTP
from pathlib import Path

from ...core.words.faults import Fault
from ..faults import BadInput
from ..write import whole_file

INDEX = "index.csv"


def write_messages(folder: Path, drafts: Sequence[tuple[str, str, Sequence[str], Sequence[str]]]) -> None:
    """Writes drafts (subject, text, logins, ids) into a folder that is not there yet, or empty; raises BadInput."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise BadInput([Fault(str(folder), 0, "is there already; name a folder that is not, or an empty one")])
    folder.mkdir(parents=True, exist_ok=True)
    rows: list[tuple[str, str]] = []
    for number, (subject, text, logins, ids) in enumerate(drafts, 1):
        message = EmailMessage(policy=SMTP.clone(utf8=True))
        message["Subject"] = " ".join(subject.split())
        message["Bcc"] = ", ".join(login for login in logins if "@" in login)
        message["X-Unsent"] = "1"
        message.set_content(text)
        name = f"notice-{number:03}.eml"
        with whole_file(folder / name) as stream:
            stream.write(message.as_bytes().decode("utf-8"))
        rows += [(one, name) for one in ids]
    with whole_file(folder / INDEX) as stream:
        writer = csv.writer(stream, lineterminator="\n")
        writer.writerow(("person", "file"))
        writer.writerows(sorted(rows))
