"""Constant expressions of C: sizes of arrays, widths of bit-fields, values of enums, conditions of ``#if``."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from operator import add, and_, eq, ge, gt, le, lt, mul, ne, or_, sub, xor
from typing import Any

from pycparser import c_ast, c_parser

from larkreader.errors import HeaderError

from .tokens import Place, Token, refuse

DEEPEST = 100  # brackets within brackets
_LIMIT = 1 << 64
_ESCAPES = {"n": 10, "t": 9, "r": 13, "a": 7, "b": 8, "f": 12, "v": 11, "\\": 92, "'": 39, '"': 34, "?": 63}
_OF_TWO: Mapping[str, Callable[[int, int], int]] = {
    "+": add, "-": sub, "*": mul, "&": and_, "|": or_, "^": xor, "==": eq, "!=": ne, "<": lt, "<=": le, ">": gt,
    ">=": ge,
}  # fmt: skip
_OF_ONE: Mapping[str, Callable[[int], int]] = {
    "+": int,
    "-": lambda a: -a,
    "~": lambda a: ~a,
    "!": lambda a: int(not a),
}


class Evaluation:
    """Works out constant expressions.

    Parameters
    ----------
    place : Place
        Where the expression stands.
    names : mapping of str to int
        The enumerators that it may name.
    size_of : callable, optional
        The bytes of a type that `sizeof` is asked for.
    """

    def __init__(
        self, place: Place, names: Mapping[str, int] | None = None, size_of: Callable[[Any], int] | None = None
    ) -> None:
        self.place, self.names, self.size_of = place, names or {}, size_of

    def of(self, node: Any) -> int:
        """Return the value of an expression.

        Raises
        ------
        HeaderError
            If it is not a constant whole number of at most 64 bits.
        """
        value = int(self._value(node))
        if not -_LIMIT < value < _LIMIT:
            refuse(self.place, "has a number of more than 64 bits")
        return value

    def _value(self, node: Any) -> int:
        match node:
            case c_ast.Constant():
                return number_of(node.value, self.place)
            case c_ast.ID():
                if node.name not in self.names:
                    refuse(self.place, f"uses {node.name}, whose value is not known", advice="Define it with --define")
                return self.names[node.name]
            case c_ast.UnaryOp(op="sizeof") if self.size_of is not None:
                return self.size_of(node.expr)
            case c_ast.UnaryOp() if node.op in _OF_ONE:
                return _OF_ONE[node.op](self.of(node.expr))
            case c_ast.BinaryOp(op="&&"):
                return int(bool(self.of(node.left)) and bool(self.of(node.right)))
            case c_ast.BinaryOp(op="||"):
                return int(bool(self.of(node.left)) or bool(self.of(node.right)))
            case c_ast.BinaryOp():
                return self._of_two(node.op, self.of(node.left), self.of(node.right))
            case c_ast.TernaryOp():
                return self.of(node.iftrue if self.of(node.cond) else node.iffalse)
            case c_ast.Cast():
                return self.of(node.expr)
        refuse(self.place, "has an expression that is not a constant whole number")

    def _of_two(self, sign: str, left: int, right: int) -> int:
        if sign in _OF_TWO:
            return _OF_TWO[sign](left, right)
        if sign in ("<<", ">>"):
            if not 0 <= right < 64:
                refuse(self.place, f"shifts by {right}", "must be by 0 to 63 bits")
            return left << right if sign == "<<" else left >> right
        if right == 0:
            refuse(self.place, "divides by 0")
        whole = abs(left) // abs(right) * (1 if (left < 0) == (right < 0) else -1)  # towards 0, as C has it
        return whole if sign == "/" else left - right * whole


def value_of(words: Sequence[Token], place: Place) -> int:
    """Return the value of an expression in words, without names.

    Parameters
    ----------
    words : sequence of Token
        The expression.
    place : Place
        Where it stands.

    Raises
    ------
    HeaderError
        If it is not a constant whole number.
    """
    if len(words) == 1 and words[0].kind in ("number", "char"):
        return number_of(words[0].text, place)
    check_depth(words)
    text = " ".join(word.text for word in words)
    try:
        tree = c_parser.CParser().parse(f"int x = ({text});", str(place))
        return Evaluation(place).of(tree.ext[0].init)
    except c_parser.ParseError as error:
        raise HeaderError(str(place), f"has an expression that C does not have: {text[:60]}") from error
    except RecursionError:
        refuse(place, "has an expression that is too long", "must be shorter")


def check_depth(words: Sequence[Token]) -> None:
    """Raise `HeaderError` if words have so many brackets within brackets, or signs in a row, that no parser follows."""
    depth = signs = 0
    for word in words:
        depth += {"(": 1, "[": 1, "{": 1, ")": -1, "]": -1, "}": -1}.get(word.text, 0)
        signs = signs + 1 if word.kind == "sign" and word.text in "*-+~!&" else 0
        if max(depth, signs) > DEEPEST:
            refuse(word.place, f"has more than {DEEPEST} brackets within brackets, or signs in a row")


def number_of(text: str, place: Place) -> int:
    """Return the number that a constant of C stands for: decimal, octal, hexadecimal, binary or a character."""
    if text.endswith("'"):
        return _character(text, place)
    digits = text.rstrip("uUlLzZ").replace("'", "").lower()
    try:
        if len(digits) > 70:
            raise ValueError
        if digits.startswith(("0x", "0b")):
            return int(digits, 0)
        return int(digits, 8 if digits.startswith("0") else 10)
    except ValueError:
        refuse(place, f"has {text[:40]}", "must be a whole number of at most 64 bits")


def _character(text: str, place: Place) -> int:
    inner = text[text.index("'") + 1 : -1]
    if len(inner) == 1:
        return ord(inner)
    if inner[:1] == "\\" and inner[1:] in _ESCAPES:
        return _ESCAPES[inner[1:]]
    try:
        if inner.startswith("\\x"):
            return int(inner[2:], 16) & 0xFF
        if inner[:1] == "\\":
            return int(inner[1:], 8) & 0xFF
    except ValueError:
        pass
    refuse(place, f"has the character {text[:20]}", "must be a single character")
