"""What the engine plays to and listens to, as one value."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class SoundChoice:
    """A device, the system's default one where `device` is empty, its blocks and channels, and the MIDI ports, if any.

    What plays leaves to `midi_output` on a channel from 1 to 16, with clock, start and stop where `midi_clock`.
    """

    device: str = ""
    block_frames: int = 256
    channels: int = 2
    midi_input: str = ""
    midi_output: str = ""
    midi_channel: int = 10
    midi_clock: bool = True
