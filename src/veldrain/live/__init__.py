"""Links to other processes: streams and commands over DDS."""

from veldrain.live.link import Link

__all__ = ["Link"]
