"""How a target would see a file that was written: a small receiver that knows nothing of how it was made."""

from zesty_otter.rehearsal.receiver import Received, ReceivedAsset, receive

__all__ = ["Received", "ReceivedAsset", "receive"]
