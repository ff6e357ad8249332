"""Nothing is called done that was never pressed."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page

from tools.browser import wait_ready

pytestmark = pytest.mark.browser


def test_every_control_of_every_page_was_used_by_a_test(page: Page, clip: str, sphere_clip: str):
    never = []
    home = clip.split("/clips")[0]
    for address in (home, f"{home}/house", clip, f"{clip}/exports", sphere_clip):
        page.goto(address)
        page.wait_for_load_state("networkidle")
        if address in (clip, sphere_clip):
            wait_ready(page)
        never += page.ledger.left(page)
    assert never == [], "\n" + "\n".join(never)
