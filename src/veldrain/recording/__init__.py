"""Streams to and from MCAP."""

from veldrain.recording.comparing import LogComparison, compare_logs
from veldrain.recording.log import Log, StreamInfo
from veldrain.recording.opening import open_log
from veldrain.recording.reader import Recording
from veldrain.recording.sinks import Sink
from veldrain.recording.writer import Recorder, RecordingError

__all__ = [
    "Log",
    "LogComparison",
    "Recorder",
    "Recording",
    "RecordingError",
    "Sink",
    "StreamInfo",
    "compare_logs",
    "open_log",
]
