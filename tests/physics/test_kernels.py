"""How kernels are compiled: what is replaced in Numba for it still has the effect that is counted on."""

import subprocess
import sys
import tempfile
import unittest
from operator import attrgetter
from pathlib import Path
from unittest import mock

from numba import float64

from veldrain import kernel as kernels


def square(x):
    return x * x


class Kernels(unittest.TestCase):
    def setUp(self):
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.enterContext(mock.patch.object(kernels, "cache_folder", lambda *_: Path(folder)))

    def test_parts_become_machine_code_only_within_what_calls_them(self):
        part = kernels.kernel(square)

        def outermost(x):
            return part(x) + part(x + 1.0)

        whole = kernels.entry(outermost)
        self.assertEqual(whole(3.0), 25.0)
        in_part, in_whole = (attrgetter("library")(k.overloads[(float64,)]) for k in (part, whole))
        self.assertTrue(in_whole._get_compiled_object())
        with self.assertRaisesRegex(RuntimeError, "no compiled object"):
            in_part._get_compiled_object()

    def test_what_another_process_compiles_is_waited_for(self):
        late = kernels.shared(square)
        other = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(0.5)"])
        with mock.patch.dict(kernels.elsewhere, {late: other}):
            late.compile((float64,))
        self.assertEqual(other.returncode, 0)
        self.assertTrue(kernels.is_compiled("test_kernels.square-"))
