"""Plain English, as a rule: phrases that no sentence of ours contains."""

import ast
import io
import re
import tokenize
from pathlib import Path

import pytest

import larkreader as lr

ROOT = Path(__file__).parents[1]
BANNED = {
    r"\btold\b|\btells?\b": "shows, reports, names",
    r"\bsaid\b|\bunless said\b": "declared, by default",
    r"\bcame\b|\b(?:to|what|had) come\b|\bcomes\b": "received, expected, arrives",
    r"\bheld against\b": "faults, read against",
    r"\bheeds?\b": "applies to",
    r"\bas good as sure\b|\bgive or take\b": "almost certain, ±",
    r"\bmade[- ]up\b|\bbelieved? in\b": "simulated, spurious, assumed",
    r"\bmends?\b": "fix",
    r"\bsomebody\b|\bnobody\b|\banybody\b": "a program, a user, no device",
    r"(?<!there )\bis no (?!longer|more|less)\w+|(?<!there )\bare no (?!longer|more|less)\w+": "is not a",
    r"\bmore to blame\b": "dominant",
}
"""Each phrase, and what to write instead."""
ONE = (
    r"\b(?:the|an?|another|this|that|which|each|every|next|last|first|other|good|declared|usual|later|longer|shorter|new|"
    r"whole|older) ones?\b(?!-word| (?:tick|of|by|bit|byte|character|frame|wire|end|way|to one|word|port|side|after|line|"
    r"intermediate|argument|that is|form|field|time|row|direction|layout|step|place|sheet))"
)
"""What stands for a thing: the thing has a name."""


def sentences_of(path):
    """Yield the sentences of a module, with their lines: strings of several words, documentation, comments."""
    source = path.read_text(encoding="utf-8")
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.JoinedStr):
            yield node.lineno, "".join(str(one.value) if isinstance(one, ast.Constant) else "{}" for one in node.values)
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value.strip():
            yield node.lineno, re.sub(r"^ *(>>>|\.\.\.).*$", "", node.value, flags=re.MULTILINE)
    for token in tokenize.generate_tokens(io.StringIO(source).readline):
        if token.type == tokenize.COMMENT:
            yield token.start[0], token.string


def wrong_in(texts):
    return [
        f"{where}: {found[0]!r}; write {instead}"
        for where, text in texts
        for banned, instead in BANNED.items()
        for found in re.finditer(banned, text, re.IGNORECASE)
    ]


def test_the_code_is_plain():
    """Messages, help, headings, the templates of findings, documentation and comments."""
    package = Path(lr.__file__).parent
    texts = [(f"{path.name}:{line}", text) for path in package.rglob("*.py") for line, text in sentences_of(path)]
    assert wrong_in(texts) == []
    things = [f"{where}: {text}" for where, text in texts if re.search(ONE, text)]
    assert things == []  # "one" counts; a thing has a name


KINDS = (".py", ".toml", ".md", ".c", ".txt")
EXAMPLES = [path for path in sorted((ROOT / "examples").rglob("*")) if path.suffix in KINDS]
SHEETS = sorted(Path(lr.__file__).parent.rglob("*.toml"))
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md")), *EXAMPLES, *SHEETS]


@pytest.mark.parametrize("page", [page for page in PAGES if "_build" not in page.parts], ids=lambda page: page.name)
def test_pages_are_plain(page):
    lines = page.read_text(encoding="utf-8").splitlines()
    assert wrong_in((number, line) for number, line in enumerate(lines, 1)) == []
    assert [line for line in lines if re.search(ONE, line)] == []
