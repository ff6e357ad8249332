"""What is remembered, and what is forgotten."""

from keen_horizon.jobs.lru_cache import Recent


def test_what_was_used_longest_ago_is_forgotten_first():
    recent: Recent[int] = Recent(2)
    recent.put("a", 1)
    recent.put("b", 2)
    assert recent.get("a") == 1
    recent.put("c", 3)
    assert (recent.get("a"), recent.get("b"), recent.get("c")) == (1, None, 3)
