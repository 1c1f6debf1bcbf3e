"""A house that is held, and the accounts of its people, as their keeper meets them; how they sign in, and what is kept of what they did."""

from __future__ import annotations

import time

import pyotp
from playwright.sync_api import expect

from tests.browser.place import Demo, WithBrowser
from ulmus.demo import accounts


class Held(WithBrowser):
    """A demonstration that was copied by hand."""

    @classmethod
    def demonstration(cls) -> Demo:
        Demo().start().close()  # made once, so that there is something to copy
        return Demo(moved=False)

    def test_a_copy_is_held_read_and_let_go(self) -> None:
        page = self.page
        strip = page.get_by_text("This house is held")
        expect(strip).to_be_visible()
        page.get_by_role("link", name="Workflows").click()
        expect(strip).to_be_visible()
        page.get_by_role("link", name="See what it would do").click()
        expect(page.get_by_role("heading", name="Held until you start it")).to_be_visible()
        page.get_by_label("It is a copy, and the original may have gone on since.").check()
        expect(page.get_by_text("Stop the original first.")).to_be_visible()
        expect(page.get_by_role("heading", name="Would go on with")).to_be_visible()
        page.get_by_role("button", name="Start the house").click()
        expect(page.get_by_role("heading", name="Held until you start it")).to_be_hidden()
        expect(strip).to_be_hidden()


class People(WithBrowser):
    def test_somebody_is_added_signs_in_changes_their_password_and_is_ended(self) -> None:
        page = self.page
        page.get_by_role("button", name="Mara Tollen").click()
        page.get_by_role("menuitem", name="Account and people").click()
        page.get_by_role("button", name="Add somebody").click()
        page.get_by_label("Mail address").fill("ada@hedgelane.example")
        page.get_by_label("Name", exact=True).fill("Ada Wyle")
        page.get_by_label("Password to begin with").fill("password12")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_role("alert")).to_contain_text("among the first that are tried")
        page.get_by_label("Password to begin with").fill("seven boats at noon")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_text("ada@hedgelane.example")).to_be_visible()
        theirs = self.browser.new_context().new_page()
        theirs.goto(self.demo.url)
        theirs.get_by_label("Mail address").fill("ada@hedgelane.example")
        theirs.get_by_label("Password").fill("seven boats at noon")
        theirs.get_by_role("button", name="Sign in").click()
        theirs.get_by_role("button", name="Ada Wyle").click()
        theirs.get_by_role("menuitem", name="Account").click()
        expect(theirs.get_by_role("heading", name="People")).to_be_hidden()
        theirs.get_by_label("Password now").fill("seven boats at noon")
        theirs.get_by_label("New password").fill("eight boats at midnight")
        theirs.get_by_role("button", name="Change password").click()
        expect(theirs.get_by_text("Your password is changed")).to_be_visible()
        theirs.goto(f"{self.demo.url}/workflows")
        expect(theirs.get_by_role("button", name="Ada Wyle")).to_be_visible()
        line = page.get_by_role("listitem").filter(has_text="Ada Wyle")
        line.get_by_role("button", name="End account").click()
        page.get_by_role("dialog").get_by_role("button", name="End it").click()
        expect(line.get_by_text("ended")).to_be_visible()
        theirs.reload()
        expect(theirs.get_by_role("button", name="Sign in")).to_be_visible()


class SigningIn(WithBrowser):
    def test_with_a_second_step_and_with_a_code_when_the_device_is_gone(self) -> None:
        page, account = self.page, accounts()[0]
        page.goto(f"{self.demo.url}/account")
        page.get_by_role("button", name="Set it up …").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_alt_text("The secret, for a device's camera")).to_be_visible()
        secret = dialog.locator("p.font-mono").inner_text().replace(" ", "")
        dialog.get_by_label("Your password").fill(account["password"])
        dialog.get_by_label("Six figures").fill("000 000")
        dialog.get_by_role("button", name="Set it up").click()
        expect(dialog.get_by_role("alert")).to_contain_text("not right")
        used = int(time.time()) // 30
        dialog.get_by_label("Six figures").fill(pyotp.TOTP(secret).now())
        dialog.get_by_role("button", name="Set it up").click()
        code = dialog.get_by_role("listitem").first.inner_text()
        dialog.get_by_role("button", name="I have them").click()
        expect(page.get_by_text("six figures of your device are asked for")).to_be_visible()

        other = self.visitor()
        other.goto(self.demo.url)
        other.get_by_label("Mail address").fill(account["email"])
        other.get_by_label("Password").fill(account["password"])
        other.get_by_role("button", name="Sign in").click()
        # The figures that were shown a moment ago have been used.
        other.get_by_label("Six figures").fill(pyotp.TOTP(secret).generate_otp(used))
        other.get_by_role("button", name="Sign in").click()
        expect(other.get_by_role("alert")).to_contain_text("used already")
        other.get_by_label("Six figures").fill(code)
        other.get_by_role("button", name="Sign in").click()
        expect(other.get_by_role("navigation", name="Main")).to_be_visible()

        # Both places are listed; one of them is signed out from here.
        page.reload()
        places = page.get_by_role("region", name="Where I am signed in")
        expect(places.get_by_role("listitem")).to_have_count(2)
        places.get_by_role("button", name="Sign out", exact=True).click()
        expect(places.get_by_role("listitem")).to_have_count(1)
        other.reload()
        expect(other.get_by_role("button", name="Sign in")).to_be_visible()

        page.get_by_role("button", name=account["name"], exact=True).click()
        page.get_by_role("menuitem", name="Audit trail").click()
        expect(page.get_by_role("row", name="set up a second step").first).to_be_visible()
        page.get_by_label("Find").fill("code second")
        expect(page.get_by_role("row", name="used a code in place of the second step")).to_be_visible()
        expect(page.get_by_role("row", name="set up a second step")).to_have_count(0)
        with page.expect_download() as saved:
            page.get_by_role("link", name="Save as CSV").click()
        self.assertIn("used a code in place of the second step", saved.value.path().read_text("utf-8-sig"))


class ByPasskey(WithBrowser):
    def test_made_with_the_password_and_signed_in_with(self) -> None:
        page, account = self.page, accounts()[0]
        home = self.demo.url.replace("127.0.0.1", "localhost")
        device = {
            "protocol": "ctap2",
            "transport": "internal",
            "hasResidentKey": True,
            "hasUserVerification": True,
            "isUserVerified": True,
        }
        line = page.context.new_cdp_session(page)
        line.send("WebAuthn.enable")
        line.send("WebAuthn.addVirtualAuthenticator", {"options": {**device, "automaticPresenceSimulation": True}})
        page.goto(home)
        page.get_by_label("Mail address").fill(account["email"])
        page.get_by_label("Password").fill(account["password"])
        page.get_by_role("button", name="Sign in", exact=True).click()
        page.get_by_role("button", name="Mara Tollen", exact=True).click()
        page.get_by_role("menuitem", name="Account and people").click()
        page.get_by_role("button", name="Make a passkey …").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("What it is called").fill("The laptop")
        dialog.get_by_label("Your password").fill(account["password"])
        dialog.get_by_role("button", name="Make it").click()
        kept = page.get_by_role("region", name="Passkeys")
        expect(kept).to_contain_text("The laptop")
        page.get_by_role("button", name="Mara Tollen", exact=True).click()
        page.get_by_role("menuitem", name="Sign out").click()
        page.get_by_role("button", name="Use a passkey").click()
        expect(page.get_by_role("navigation", name="Main")).to_be_visible()
        page.goto(f"{home}/account")
        expect(kept).to_contain_text("used")
        kept.get_by_role("button", name="Take away …").click()
        page.get_by_role("dialog").get_by_role("button", name="Take it away").click()
        expect(kept.get_by_role("listitem")).to_have_count(0)


class SomebodyElse(WithBrowser):
    def test_what_is_held_of_a_person_is_found_given_out_and_removed(self) -> None:
        page = self.page
        made = page.request.get(f"{self.demo.url}/api/session").json()
        cells = {"cells": {"Company": "Hollow Mill", "Contact": "Wilmot Crake <wilmot@mill.example>"}}
        head = {"X-CSRF-Token": made["csrf"]}
        columns = [{"name": "Company"}, {"name": "Contact"}]
        sheet = page.request.post(f"{self.demo.url}/api/sheets", data={"name": "Mills", "columns": columns}, headers=head).json()[
            "key"
        ]
        page.request.post(f"{self.demo.url}/api/sheets/{sheet}/rows", data={"rows": [cells["cells"]]}, headers=head)
        page.get_by_role("button", name="Mara Tollen").click()
        page.get_by_role("menuitem", name="A person’s data").click()
        asked = page.get_by_label("Mail addresses and names, one on each line")
        expect(asked).to_be_focused()
        asked.fill("Wilmot Crake\nwilmot@mill.example")
        page.get_by_role("button", name="Look everywhere").click()
        expect(page.get_by_role("link", name="A row in Mills")).to_be_visible()
        with page.expect_download() as file:
            page.get_by_role("button", name="Give out as one file").click()
        self.assertEqual(file.value.suggested_filename, "person.zip")
        page.get_by_role("button", name="Remove everywhere …").click()
        dialog = page.get_by_role("dialog", name="Remove Wilmot Crake?")
        expect(dialog.get_by_role("button", name="Keep it")).to_be_focused()
        dialog.get_by_role("button", name="Remove everywhere").click()
        expect(page.get_by_text("Nothing here speaks of them.")).to_be_visible()
        page.goto(f"{self.demo.url}/trail")
        expect(page.get_by_text("removed a person’s data").first).to_be_visible()
        expect(page.get_by_text("Wilmot")).to_have_count(0)
