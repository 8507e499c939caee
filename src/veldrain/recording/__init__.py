"""Streams to and from MCAP."""

from veldrain.recording.log import Log, StreamInfo
from veldrain.recording.reader import Recording
from veldrain.recording.sinks import Sink
from veldrain.recording.writer import Recorder, RecordingError

__all__ = ["Log", "Recorder", "Recording", "RecordingError", "Sink", "StreamInfo"]
