"""A connection that signs in by OAuth 2: set up, agreed to with one press at the other side, tested, withdrawn, agreed to again."""

from __future__ import annotations

from playwright.sync_api import expect

from tests.browser.place import WithBrowser


class ByAgreement(WithBrowser):
    def test_an_owner_connects_a_service_by_agreeing_there(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/connections")
        row = page.get_by_role("listitem").filter(has_text="Outreach service")
        row.get_by_role("button", name="Change").click()
        form = page.get_by_role("dialog")
        expect(form.get_by_label("Client identity")).to_have_count(0)
        form.get_by_label("OAuth 2").select_option("authorization_code")
        expect(form.get_by_label("API key")).to_have_count(0)
        expect(form.get_by_label("Redirect address")).to_have_value(f"{self.demo.url}/connections/granted")
        form.get_by_label("Address that gives tokens").fill(f"{self.demo.town}/oauth/token")
        form.get_by_label("Client identity").fill("hedge-lane")
        form.get_by_label("Client secret").fill("lane-secret")
        form.get_by_role("button", name="Keep").click()
        expect(form.get_by_role("alert")).to_contain_text("also needs “Address where a person agrees”")
        form.get_by_label("Address where a person agrees").fill(f"{self.demo.town}/oauth/agree")
        form.get_by_role("button", name="Keep").click()
        expect(form).to_have_count(0)
        row.get_by_role("button", name="Test").click()
        expect(row.get_by_text("Nobody has agreed to this yet")).to_be_visible()

        row.get_by_role("button", name="Connect", exact=True).click()
        page.get_by_role("button", name="Do not agree").click()
        expect(page.get_by_text("You did not agree; nothing was connected.")).to_be_visible()
        page.get_by_role("link", name="Back to Connections").click()
        row.get_by_role("button", name="Connect", exact=True).click()
        page.get_by_role("button", name="Agree", exact=True).click()
        expect(row.get_by_text("Connected.")).to_be_visible()
        row.get_by_role("button", name="Test").click()
        expect(row.get_by_text("Answered with")).to_be_visible()
        page.goto(f"{self.demo.url}/connections/granted?code=x&state=forged")
        expect(page.get_by_text("This agreement was not begun here")).to_be_visible()
