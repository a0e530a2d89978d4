"""What of a full mix is heard: its drums, all of it, or what is left."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def mixed(whole: NDArray[np.float32], drums: NDArray[np.float32], share: float) -> NDArray[np.float32]:
    """Return a balance of the drums and the rest of a mix, both of shape (frames, channels).

    `share` goes from -1, only the rest, over 0, the whole mix exactly, to 1, only the drums.
    """
    rest_gain = np.float32(1.0 - max(0.0, share))
    drums_gain = np.float32(1.0 + min(0.0, share))
    return rest_gain * (whole - drums) + drums_gain * drums
