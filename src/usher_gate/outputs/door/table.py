"""Who could get into a meeting, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..page import page_table
from ..render_options import RenderOptions
from .answer import DoorAnswer, HostAnswer, MeetingAnswer
from .pages import door_page, host_page, meeting_page, meetings_page


def write_door(answer: DoorAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole organisation."""
    page_table(door_page(answer, look.rows), stream, look)


def write_meetings(answer: DoorAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Planned meetings alone."""
    page_table(meetings_page(answer, look.rows), stream, look)


def write_meeting(answer: MeetingAnswer, stream: TextIO, look: RenderOptions) -> None:
    """One planned meeting."""
    page_table(meeting_page(answer, look.rows), stream, look)


def write_host(answer: HostAnswer, stream: TextIO, look: RenderOptions) -> None:
    """One host."""
    page_table(host_page(answer, look.rows), stream, look)
