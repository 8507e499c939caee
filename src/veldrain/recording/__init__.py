"""Streams to and from MCAP."""

from veldrain.recording.reader import Recording, StreamInfo
from veldrain.recording.sinks import Sink
from veldrain.recording.writer import Recorder, RecordingError

__all__ = ["Recorder", "Recording", "RecordingError", "Sink", "StreamInfo"]
