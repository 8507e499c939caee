"""Streams to and from MCAP."""

from veldrain.recording.comparing import LogComparison, compare_logs
from veldrain.recording.detecting import Matched, detections, match, true_boxes
from veldrain.recording.judging import Consistency, consistency
from veldrain.recording.log import Log
from veldrain.recording.opening import open_log
from veldrain.recording.reader import Recording
from veldrain.recording.reading import StreamInfo
from veldrain.recording.sinks import Sink
from veldrain.recording.writer import Recorder, RecordingError

__all__ = [
    "Consistency",
    "Log",
    "LogComparison",
    "Matched",
    "Recorder",
    "Recording",
    "RecordingError",
    "Sink",
    "StreamInfo",
    "compare_logs",
    "consistency",
    "detections",
    "match",
    "open_log",
    "true_boxes",
]
