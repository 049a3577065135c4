"""Who could get into a meeting, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..page import page_markdown
from ..render_options import RenderOptions
from .answer import DoorAnswer, HostAnswer, MeetingAnswer
from .pages import door_page, host_page, meeting_page, meetings_page


def write_door_markdown(answer: DoorAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole organisation."""
    page_markdown(door_page(answer, look.rows), answer.notes, stream)


def write_meetings_markdown(answer: DoorAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Planned meetings alone."""
    page_markdown(meetings_page(answer, look.rows), answer.notes, stream)


def write_meeting_markdown(answer: MeetingAnswer, stream: TextIO, look: RenderOptions) -> None:
    """One planned meeting."""
    page_markdown(meeting_page(answer, look.rows), answer.notes, stream)


def write_host_markdown(answer: HostAnswer, stream: TextIO, look: RenderOptions) -> None:
    """One host."""
    page_markdown(host_page(answer, look.rows), (), stream)
