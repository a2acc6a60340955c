"""The call of a paused frame, to be kept as a test or as a small script."""

from __future__ import annotations

from ..core.errors import Refused
from ..keeping import call
from .declare import Body, request
from .exchange import Part


class KeepingRequests(Part):
    """Asked for at the entry of the call: later its arguments may have changed."""

    @request("unevenSum/keepCall")
    def keep_call(self, folder: str, frame_id: int = 0, alone: bool = False, inline: bool = False) -> Body:
        """The call as text; the files of its arguments are written to `folder`.  See `keeping/call.py`."""
        self.exchange.paused()
        try:
            return call.kept(self.exchange.frame(frame_id), folder, alone, inline)
        except Refused:
            raise
        except Exception as e:
            raise Refused(f"The call cannot be written down: {type(e).__name__}: {e}") from None
