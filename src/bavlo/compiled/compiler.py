"""The compiler: a process of its own, in which numba makes machine code of kernels.

It is asked by a line of JSON for each kernel, and answers by one. Its memory is given back when it
ends, and no run that finds what it needs kept starts it.
"""

from __future__ import annotations

import base64
import json
import os
import subprocess
import sys
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from types import FunctionType
from typing import Any

import numpy as np

from bavlo.compiled.machine_code import FLAG, NOTHING, REAL, WHOLE, MachineCode, target_machine

HELPERS = ("numba_", "NRT_")  # beginnings of the names of functions that only numba has


class Compiler:
    """The process, which is started when it is asked for something."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None

    def machine_code(
        self, kernel: Callable[..., Any], types: tuple[str, ...]
    ) -> MachineCode | None:
        """What a kernel is compiled to for arguments of some types; None where it cannot be."""
        request = {
            "module": kernel.__module__,
            "kernel": kernel.__qualname__,
            "types": list(types),
        }
        try:
            if self._process is None:
                self._process = _started()
            requests, answers = self._process.stdin, self._process.stdout
            assert requests is not None
            assert answers is not None
            requests.write(json.dumps(request).encode() + b"\n")
            requests.flush()
            answer = json.loads(answers.readline() or b"null")
        except (OSError, ValueError):
            answer = None
        except BaseException:  # such as an interrupt: nobody may take this answer for the next
            self._stop()
            raise
        if answer is None or answer["of"] != request:
            self._stop()
            return None
        return MachineCode(
            base64.b64decode(answer["code"]),
            answer["symbol"],
            types,
            answer["returns"],
            tuple(answer["helpers"]),
        )

    def close(self) -> None:
        """Let the process end, if there is one."""
        process, self._process = self._process, None
        if process is not None:
            with suppress(OSError):  # of a pipe that is broken, since it ended before
                process.communicate()

    def _stop(self) -> None:
        """End the process at once."""
        if self._process is not None:
            self._process.kill()
        self.close()


COMPILER = Compiler()


def _started() -> subprocess.Popen[bytes]:
    own = str(Path(__file__).parents[2])
    path = os.pathsep.join(filter(None, [own, os.environ.get("PYTHONPATH")]))
    return subprocess.Popen(
        [sys.executable, "-P", "-c", "from bavlo.compiled.compiler import main; main()"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env={**os.environ, "PYTHONPATH": path},
    )


def by_numba(kernel: Callable[..., Any]) -> Any:
    """A kernel compiled by numba, together with the functions of its module that it calls."""
    import numba

    assert isinstance(kernel, FunctionType)
    called = {
        name: by_numba(function)
        for name in kernel.__code__.co_names
        if isinstance(function := kernel.__globals__.get(name), FunctionType)
        and function.__module__ == kernel.__module__
    }
    own = FunctionType(kernel.__code__, {**kernel.__globals__, **called}, kernel.__name__)
    own.__module__, own.__qualname__ = kernel.__module__, kernel.__qualname__
    return numba.njit(nogil=True, fastmath=False)(own)


def compile_kernel(kernel: Callable[..., Any], types: tuple[str, ...]) -> MachineCode:
    """Machine code of a kernel for arguments of some types."""
    import llvmlite.binding as llvm

    numba: Any = import_module("numba")
    of, ready = numba.types, by_numba(kernel)
    takes, lines = [], []
    names: dict[str, Any] = {"kernel": ready, "carray": numba.carray, **_at_addresses()}
    for n, each in enumerate(types):
        name, _, dimensions = each.partition(":")
        dtype = np.dtype(name)
        if dimensions:
            names[f"type_{n}"] = dtype.type
            takes.append(of.Array(numba.from_dtype(dtype), int(dimensions), "C"))
            shape = "".join(f"word(shape, {m}), " for m in range(int(dimensions)))
            # The fourth and the sixth word of an array's PyArrayInterface lead to shape and data.
            lines += [
                f"shape = word(word(table, {n}), 3)",
                f"a{n} = carray(pointer(word(word(table, {n}), 5)), ({shape}), type_{n})",
            ]
        else:
            takes.append(numba.from_dtype(dtype))
            form = {WHOLE: "word(table, {})", FLAG: "word(table, {}) != 0", REAL: "real(table, {})"}
            lines.append(f"a{n} = {form[name].format(n)}")
    ready.compile(tuple(takes))
    returned = ready.nopython_signatures[-1].return_type
    call = f"kernel({', '.join(f'a{n}' for n in range(len(types)))})"
    returns, gives = NOTHING, of.void
    if isinstance(returned, of.Boolean):
        returns, gives, call = FLAG, of.int64, f"return 1 if {call} else 0"
    elif isinstance(returned, of.Integer):
        returns, gives, call = WHOLE, of.int64, f"return {call}"
    elif isinstance(returned, of.Float):
        returns, gives, call = REAL, of.float64, f"return {call}"
    # A function of a table calls kernels of any arguments.
    namespace: dict[str, Any] = {}
    text = "\n    ".join(["def entry(table):", *lines, call])
    exec(text, names, namespace)
    entry = numba.cfunc(gives(of.int64))(namespace["entry"])
    module = llvm.parse_assembly(entry.inspect_llvm())
    helpers = [f.name for f in module.functions if f.is_declaration and f.name.startswith(HELPERS)]
    code = target_machine().emit_object(module)
    return MachineCode(code, entry.native_name, types, returns, tuple(helpers))


def _at_addresses() -> dict[str, Any]:
    """What numba takes for the word or the real number at an address, and for a pointer to it."""
    from llvmlite import ir

    intrinsic: Any = import_module("numba.extending").intrinsic
    of: Any = import_module("numba").types
    whole, real = ir.IntType(64), ir.DoubleType()

    def loading(kind: Any, gives: Any) -> Any:
        def load(_: Any, address: Any, number: Any) -> Any:
            def build(_: Any, builder: Any, __: Any, arguments: Any) -> Any:
                address, number = arguments
                offset = builder.mul(number, ir.Constant(whole, 8))
                found = builder.inttoptr(builder.add(address, offset), kind.as_pointer())
                return builder.load(found)

            return gives(of.int64, of.int64), build

        return intrinsic(load)

    def pointer(_: Any, address: Any) -> Any:
        def build(_: Any, builder: Any, __: Any, arguments: Any) -> Any:
            return builder.inttoptr(arguments[0], ir.IntType(8).as_pointer())

        return of.voidptr(of.int64), build

    return {
        "word": loading(whole, of.int64),
        "real": loading(real, of.float64),
        "pointer": intrinsic(pointer),
    }


def main() -> None:
    """Answer for each kernel that is asked for, until nobody asks any more."""
    for line in sys.stdin.buffer:
        request = json.loads(line)
        kernel = getattr(import_module(request["module"]), request["kernel"])
        code = compile_kernel(kernel, tuple(request["types"]))
        answer = {
            "of": request,
            "code": base64.b64encode(code.code).decode(),
            "symbol": code.symbol,
            "returns": code.returns,
            "helpers": code.helpers,
        }
        print(json.dumps(answer), flush=True)
