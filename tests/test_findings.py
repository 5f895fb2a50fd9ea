"""What the core finds has a sentence for every reason, and every kind of job someone who says it and someone who undoes it."""

from __future__ import annotations

import ast
import json
import unicodedata
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import rundlet
from rundlet.core import errors
from rundlet.core.errors import FileProblem, RundletError
from rundlet.core.jobs.findings import Finding, Issue, Reason, Severity, cause_of, issue_of
from rundlet.core.jobs.outcomes import KINDS, Outcome, Unpacked, outcome_from
from rundlet.core.sentences import Sentence, fields_of, fill
from rundlet.core.text import LONGEST_MESSAGE
from rundlet.core.userdata.journal import Journal, failed_record, record_of
from rundlet.core.work.undo import HANDLERS
from rundlet.desktop.jobs import failure_of
from rundlet.presentation.findings import CLAUSES, finding_words, issue_line
from rundlet.presentation.outcomes import PRESENTERS, outcome_words, record_title, record_words
from rundlet.presentation.undoing import undo_words

NAMES = st.text(min_size=1, max_size=300) | st.sampled_from(["a\udce9b", "x" * 4000, "‮evil", "川" * 100])
LEAVES = st.builds(lambda reason, words: Finding(reason, {"problem": words}), st.sampled_from([Reason.SYSTEM]), NAMES)


def _kinds_of_facts() -> dict[str, set[str]]:
    """For each reason the facts that the code gives with it, read from the code itself."""
    found: dict[str, set[str]] = {}
    for path in Path(rundlet.__file__).parent.glob("core/**/*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if not isinstance(node, ast.Call):
                continue
            named = [a for a in node.args if isinstance(a, ast.Attribute) and ast.unparse(a).startswith("Reason.")]
            facts = {keyword.arg for keyword in node.keywords if keyword.arg}
            if ast.unparse(node.func).endswith(("add_error", "issue_of")):
                facts.add("cause")
            if len(named) == 1 and ast.unparse(node.func).endswith(
                ("issue", "issue_of", "add", "add_error", "Finding", "of")
            ):
                found.setdefault(named[0].attr, set()).update(facts)
    return found


def test_every_reason_has_a_clause_with_the_facts_that_it_comes_with() -> None:
    assert set(CLAUSES) == set(Reason)
    given_facts = _kinds_of_facts()
    assert len(given_facts) > 70
    for name, facts in given_facts.items():
        assert fields_of(CLAUSES[Reason[name]]) <= facts, name


@given(st.sampled_from(sorted(Reason)), st.data())
def test_findings_go_into_the_log_and_out_again(reason: Reason, data: st.DataObject) -> None:
    facts = {
        field: data.draw(
            st.integers(0, 1 << 70)
            if field in ("count", "number", "said", "there", "most", "size")
            else st.one_of(LEAVES, st.tuples(LEAVES, LEAVES))
            if field in ("cause", "changes")
            else NAMES
        )
        for field in fields_of(CLAUSES[reason])
    }
    issue = Issue(data.draw(NAMES), Finding(reason, facts), data.draw(st.integers(-1, 1 << 40)), data.draw(NAMES))
    again = Issue.from_values(json.loads(json.dumps(issue.as_values())))
    assert again == issue
    line = issue_line(again)
    assert line == issue_line(issue) and len(line) <= LONGEST_MESSAGE
    assert not any(unicodedata.category(c) in ("Cc", "Cs") for c in line)
    assert issue.problem == (issue.severity is Severity.PROBLEM)


def test_errors_are_told_apart() -> None:
    kinds = [kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, RundletError)]
    told = {}
    for kind in kinds:
        error = (
            kind("It is so.", errno=5, cause=Sentence("it is so"), path="a.txt")
            if issubclass(kind, FileProblem)
            else kind("It is so.")
        )
        told[kind.__name__] = cause_of(error).reason
        assert finding_words(cause_of(error)) == "it is so"
    assert told["ChecksumMismatch"] is Reason.CHECKSUM and told["Truncated"] is Reason.CUT_OFF
    assert told["WrongPassword"] is Reason.WRONG_PASSWORD and told["PasswordNeeded"] is Reason.LOCKED
    assert len(set(told.values())) >= 10
    issue = issue_of("a.txt", errors.Corrupt("It is bad.", offset=77, hint="Fetch it again."), Reason.LEFT_OUT)
    assert (issue.offset, issue_line(issue)) == (77, "a.txt: was left out: it is bad. Fetch it again.")


def test_why_a_job_came_to_nothing_is_kept_as_facts(tmp_path: Path) -> None:
    hint = "Fetch the {count:part|parts} again."
    error = errors.Truncated("{archive:name} ends at {offset}.", archive="a{b}.zip", offset=7, hint=hint, count=2)
    why = failure_of("Unpack a{b}.zip", error).why
    assert why is not None
    Journal(tmp_path).add(failed_record(Unpacked, [], tmp_path, why, cancelled=False), ())
    (record,) = Journal(tmp_path).records()
    assert record.why == why
    assert record_words(record) == str(error) == "“a{b}.zip” ends at 7. Fetch the 2 parts again."
    assert any(hint in path.read_text() for path in tmp_path.rglob("*") if path.is_file())


def test_every_kind_of_job_is_said_and_undone(tmp_path: Path) -> None:
    # By their names: classes with slots are made twice, and the first ones are subclasses for as long as they are there.
    assert set(PRESENTERS) == set(KINDS.values()) and set(KINDS) == {kind.kind for kind in Outcome.__subclasses__()}
    for kind in KINDS.values():
        outcome = kind(tmp_path / "x", 3, 1000, 400, 1.5, trashed=["/a"], moved=[("/b", "/c")])
        assert outcome_from(json.loads(json.dumps(outcome.as_values()))) == outcome
        assert outcome_words(outcome).endswith(".") and "{" not in outcome_words(outcome)
        record, _ = record_of(outcome, [tmp_path / "one", tmp_path / "two"])
        assert record_title(record) and record_words(record)
        assert PRESENTERS[kind].title(tmp_path, ["/one"])
        if kind.is_noted and kind in HANDLERS:
            assert undo_words(record)
    assert set(HANDLERS) == {kind for kind in KINDS.values() if kind.is_noted} - {KINDS["check"], KINDS["compare"]}


@pytest.mark.parametrize(
    ("template", "facts", "words"),
    [
        ("{n:file|files} {n:=is|are} here", {"n": 1}, "1 file is here"),
        ("{n:file|files} {n:=is|are} here", {"n": 1200}, "1,200 files are here"),
        ("{n:entry was|entries were} found", {"n": 2}, "2 entries were found"),
        (
            "{who:name}, {size:size} in {s:duration}",
            {"who": "a‮b", "size": 2000, "s": 61},
            "“a\\u202eb”, 2.0 kB in 1 min 1 s",
        ),
        ("{n:number}", {"n": 1234567}, "1,234,567"),
    ],
)
def test_sentences_agree(template: str, facts: dict[str, Any], words: str) -> None:
    assert fill(template, facts) == words


_FORMER = {
    "id": "a",
    "when": "2031-03-10T10:00:00+00:00",
    "verb": "unpack",
    "source": ["/x.zip"],
    "target": "/into",
    "words": "Unpacked 2 files.",
    "files": 2,
    "bytes_in": 0,
    "bytes_out": 40,
    "seconds": 0.5,
    "expected_size": 0,
    "expected_seconds": 0.0,
    "problems": ["a.txt: was left out: it is damaged"],
    "trashed": ["/into/b"],
    "replaced": [],
    "moved": [["/x.zip", "/into/x.zip"]],
    "undone": False,
    "can_undo": True,
    "result": "done",
    "bins": {"/into/b": "/trash/info/b.trashinfo"},
    "stamps": [[1, 2, 3, 4]],
    "boot": "boot",
    "back": ["/into/c"],
    "title": "",
    "more_problems": 0,
}


def test_the_log_of_earlier_versions_is_read(tmp_path: Path) -> None:
    """With all that is needed to undo its jobs."""
    failed = {
        **_FORMER,
        "id": "b",
        "verb": "pack",
        "result": "failed",
        "words": "The disk is full.",
        "title": "Packing",
    }
    lines = [json.dumps(_FORMER), json.dumps(failed), json.dumps({**_FORMER, "id": "c", "verb": "who knows"})]
    (tmp_path / "jobs.jsonl").write_text("\n".join(lines) + "\n")
    newest, oldest = Journal(tmp_path).records()
    outcome = oldest.outcome
    assert isinstance(outcome, Unpacked) and (outcome.files, outcome.target) == (2, Path("/into"))
    assert outcome.trashed == ["/into/b"] and outcome.moved == [("/x.zip", "/into/x.zip")] and oldest.can_undo
    assert outcome.bins == _FORMER["bins"] and oldest.stamps == ((1, 2, 3, 4),) and oldest.back == ("/into/c",)
    assert [issue_line(issue) for issue in oldest.problems] == _FORMER["problems"]
    assert "Unpacked 2 files" in record_words(oldest) and "it is damaged" in record_words(oldest)
    assert (newest.result, record_words(newest)) == ("failed", "The disk is full.")
    assert record_title(newest) == "Packing “into”"
