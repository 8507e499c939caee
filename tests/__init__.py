"""Tests of the public interface; the kernels are compiled first, in two processes, where none are kept."""

from veldrain.kernel import is_compiled
from veldrain.physics.preparing import prepare

if not is_compiled("stepping.advance-"):
    prepare()
