"""Messages drafted for people: one file for each text (RFC 5322), and a table of people who gets which.

Nothing is sent.
"""

from __future__ import annotations

import csv
from collections.abc import Sequence
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from pathlib import Path

from ...core.words.addresses import is_address
from ..write import new_file, whole_folder
from .cells import for_spreadsheet, header_text, visible

INDEX, INVITED = "index.csv", "invited.csv"
NO_ADDRESS = "no address"


def draft_message(subject: str, text: str, field: str, logins: Sequence[str]) -> EmailMessage:
    """Return a message that is not sent yet.

    Logins that are no address are left out of its header `field` (To or Bcc).
    """
    message = EmailMessage(policy=SMTP.clone(utf8=True))
    message["Subject"] = header_text(subject)
    message[field] = [Address("", *login.rsplit("@", 1)) for login in logins if is_address(login)]
    message["X-Unsent"] = "1"
    message.set_content("\n".join(map(visible, text.split("\n"))))
    return message


def write_messages(
    folder: Path,
    drafts: Sequence[tuple[str, str, Sequence[str], Sequence[str]]],
    invited: Sequence[tuple[str, str, str, str]] = (),
) -> list[str]:
    """Writes drafts (subject, text, logins, ids), and those to be sent by organisers to their invitees (subject, text,
    organiser's id, address), into a folder that is not there yet, or empty, whole or not at all.

    Returns the logins that are no address: their rows in the index say so. Raises BadInput and CannotWrite as
    `whole_folder`.
    """
    rows: list[tuple[str, str]] = []
    without: list[str] = []
    with whole_folder(folder) as inside:
        for number, (subject, text, logins, ids) in enumerate(drafts, 1):
            name = f"notice-{number:03}.eml"
            with new_file(inside / name) as stream:
                stream.write(draft_message(subject, text, "Bcc", logins).as_bytes().decode("utf-8"))
            rows += [(one, name if is_address(login) else NO_ADDRESS) for login, one in zip(logins, ids, strict=True)]
            without += [login for login in logins if not is_address(login)]
        with new_file(inside / INDEX) as stream:
            writer = csv.writer(stream, lineterminator="\n")
            writer.writerow(("person", "file"))
            writer.writerows((for_spreadsheet(one), name) for one, name in sorted(rows))
        if invited:
            _write_invited(inside, invited)
    return sorted(set(without))


def _write_invited(inside: Path, invited: Sequence[tuple[str, str, str, str]]) -> None:
    with new_file(inside / INVITED) as index:
        writer = csv.writer(index, lineterminator="\n")
        writer.writerow(("organiser", "invited", "file"))
        for number, (subject, text, organiser, address) in enumerate(invited, 1):
            name = f"invited-{number:03}.eml" if is_address(address) else NO_ADDRESS
            writer.writerow((for_spreadsheet(organiser), for_spreadsheet(address), name))
            if name != NO_ADDRESS:
                with new_file(inside / name) as stream:
                    stream.write(draft_message(subject, text, "To", [address]).as_bytes().decode("utf-8"))


def no_address_note(logins: Sequence[str], what: str) -> str:
    """Return a note that some people get no message, and `what` follows."""
    shown = ", ".join(logins[:5]) + (f" and {len(logins) - 5} more" if len(logins) > 5 else "")
    these = "this login is no mail address" if len(logins) == 1 else "these logins are no mail addresses"
    return f"no address: {shown} ({these}); {what}"
