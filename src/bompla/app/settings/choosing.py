"""Choosing what the engine plays to: kept, and used at once."""

from __future__ import annotations

from bompla.app.preferences import Preferences, preferences
from bompla.app.sound.playback import Playback
from bompla.engine.choice import SoundChoice

KEPT_AS = {"device": "output_device"} | {
    name: name for name in ("block_frames", "channels", "midi_input", "midi_output", "midi_channel", "midi_clock")}


def sound_choice(kept: Preferences, *, device: str = "") -> SoundChoice:
    """Return what the engine plays to, as it is kept; a device that is named comes first."""
    return SoundChoice(
        device=device or kept.output_device, block_frames=kept.block_frames, channels=kept.channels, midi_input=kept.midi_input,
        midi_output=kept.midi_output, midi_channel=kept.midi_channel, midi_clock=kept.midi_clock)


def use_sound(playback: Playback, made: SoundChoice, *, even_if_same: bool = False) -> bool:
    """Keep a choice and play to it; False where it is the one that plays."""
    if made == playback.engine.chosen and not even_if_same:
        return False
    was = playback.engine.chosen
    preferences().set(**{kept: getattr(made, name) for name, kept in KEPT_AS.items() if getattr(made, name) != getattr(was, name)})
    playback.transport.use_device(made)
    playback.engine.set_touch(preferences().value.velocity_curve(made.midi_input))
    return True
