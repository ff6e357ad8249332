"""Benchmarks are written down part by part."""

from pathlib import Path

from tools.report import write
from tools.rows import Row


def test_a_part_that_is_run_alone_leaves_the_others_as_they_were(tmp_path: Path) -> None:
    document = tmp_path / "benchmarks.md"
    steady = Row("shake left", "≤ 4 %", "2.2 %", True)
    first = write("accuracy", [steady, Row("late", "≤ 1 s", "2 s", False, "by hand")], document)
    write("speed", [steady], document)
    other = write("accuracy", [Row("shake left", "≤ 4 %", "5 %", False)], document)
    text = document.read_text()
    assert first not in text
    assert "- late: by hand." in first
    assert "| late | ≤ 1 s | 2 s | **no** |" in first
    assert text.count("| shake left | ≤ 4 % | 2.2 % | yes |") == 1
    assert other in text
    assert text.index("## accuracy") < text.index("## speed")
    assert text.startswith("# Benchmarks")
