"""Foreign files and feeds as they come: one bad entry never costs the rest."""

from __future__ import annotations

import datetime as dt
import io
import json
import unittest
import zipfile

from tests.protocols.outside import answering, raw
from ulmus.protocols import calendars, documents, feeds, opml, robots, transcripts
from ulmus.protocols.errors import OutsideError

SPAN = (dt.datetime(2026, 3, 1, tzinfo=dt.UTC), dt.datetime(2026, 4, 1, tzinfo=dt.UTC))


def json_feed(*items: object) -> bytes:
    return json.dumps({"version": "https://jsonfeed.org/version/1.1", "title": "F", "items": items}).encode()


class Feeds(unittest.TestCase):
    def test_a_bad_entry_of_a_json_feed_costs_only_itself(self) -> None:
        good = {"id": "1", "url": "https://a.example/1", "title": "One"}
        odd = (
            {"id": "2", "url": "http://[::1", "title": "Malformed link"},
            {"id": "3", "authors": "Mara", "title": "Authors as words"},
            {"id": "4", "authors": [None, {"name": None}, {"name": "Ines"}], "title": ["A list"]},
            {"id": "5", "author": "words", "tags": {"a": 1}, "image": 7, "date_published": 9},
            {"id": {"no": "id"}, "content_text": {"a": "b"}},
        )
        found = feeds.parse(json_feed(*odd, good), None, "https://a.example/feed.json")
        self.assertEqual(len(found.items), 6)
        self.assertEqual(found.items[-1].link, "https://a.example/1")
        self.assertEqual(found.items[2].author, "Ines")

    def test_a_feed_whose_last_tag_is_cut_keeps_a_last_item_that_is_whole(self) -> None:
        item = "<item><title>{n}</title><guid>{n}</guid></item>"
        body = '<?xml version="1.0"?><rss version="2.0"><channel><title>F</title>' + "".join(item.format(n=n) for n in range(3))
        for end, count in (
            ("</channel></rs", 3),
            ("</channel>", 3),
            ("", 3),
            ("<item><title>half", 3),
            ("<item><title>3</title><guid>3</g", 3),
        ):
            self.assertEqual(len(feeds.parse((body + end).encode()).items), count, end)

    def test_atom_ids_stay_as_they_are(self) -> None:
        ids = (
            "tag:a.example,2026:1",
            "urn:uuid:1225c695-cfb8-4ebb-aaaa-80da344efa6a",
            "/relative/id",
            "HTTP://A.Example/X?b=2&a=1#f",
            "x y",
        )
        entries = "".join(f"<entry><title>T</title><id>{i.replace('&', '&amp;')}</id></entry>" for i in ids)
        body = f'<feed xmlns="http://www.w3.org/2005/Atom" xml:base="https://base.example/">{entries}</feed>'
        self.assertEqual([one.id for one in feeds.parse(body.encode(), None, "https://a.example/feed").items], list(ids))

    def test_the_address_of_a_site_finds_its_feed(self) -> None:
        feed = b'<rss version="2.0"><channel><title>Found</title><item><title>One</title><guid>1</guid></item></channel></rss>'
        page = b"""<!doctype html><html><head><link rel=stylesheet href=x.css>
            <link rel='alternate' type='application/rss+xml' title="All" href='/feed?a=1&amp;b=2'></head><body>Words</body></html>"""

        def answer(line: object) -> None:
            asked = server.requests[-1].split(b" ")[1]
            is_feed = asked.startswith(b"/feed")
            kind = "application/rss+xml" if is_feed else "text/html; charset=utf-8"
            answering(feed if is_feed else page, f"Content-Type: {kind}\r\n")(line)  # type: ignore[arg-type]

        server, web = raw(self, answer)
        seen = feeds.poll(web, server.url)
        assert seen.feed is not None
        self.assertEqual((seen.feed.title, seen.found_at), ("Found", f"{server.url}feed?a=1&b=2"))

    def test_a_page_that_names_no_feed_is_none(self) -> None:
        server, web = raw(self, answering(b"<html><body>Words</body></html>", "Content-Type: text/html\r\n"))
        with self.assertRaisesRegex(OutsideError, "not a feed but a web page"):
            feeds.poll(web, server.url)


class Calendars(unittest.TestCase):
    def titles(self, *events: str, around: str = "{}") -> list[str]:
        inside = "\r\n".join(f"BEGIN:VEVENT\r\n{event}\r\nEND:VEVENT" for event in events)
        body = around.format(f"BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{inside}\r\nEND:VCALENDAR\r\n")
        return [one.title for one in calendars.entries(body.encode(), *SPAN)]

    def test_a_bad_entry_costs_only_itself(self) -> None:
        good = "UID:1\r\nDTSTART:20260310T100000Z\r\nSUMMARY:Good"
        for bad in (
            "UID:2\r\nSUMMARY:No start",
            "UID:2\r\nDTSTART:nonsense\r\nSUMMARY:Bad start",
            "UID:2\r\nDTSTART:20260311T100000Z\r\nRRULE:FREQ=NEVER\r\nSUMMARY:Bad rule",
            "UID:2\r\nDTSTART:20260311T100000Z\r\nDTEND:later\r\nRRULE:FREQ=DAILY;UNTIL=x\r\nSUMMARY:Bad end",
            "UID:2\r\nDTSTART;TZID=Nowhere/Atall:20260311T100000\r\nEXDATE:zzz\r\nSUMMARY:Bad zone",
            "DTSTART:20260311T100000Z\r\nRECURRENCE-ID:20260311T1000\r\nSUMMARY:Bad repeat",
        ):
            self.assertIn("Good", self.titles(good, bad), bad)
            self.assertIn("Good", self.titles(bad, good), bad)

    def test_doubled_and_cancelled_entries(self) -> None:
        one = "UID:1\r\nDTSTART:20260310T100000Z\r\nSUMMARY:One"
        gone = "UID:2\r\nDTSTART:20260311T100000Z\r\nSTATUS:CANCELLED\r\nSUMMARY:Gone"
        self.assertEqual(self.titles(one, one, gone), ["One"])

    def test_a_cancelled_repeat_is_left_out_and_the_others_stay(self) -> None:
        series = "UID:1\r\nDTSTART:20260310T100000Z\r\nRRULE:FREQ=DAILY;COUNT=3\r\nSUMMARY:Day"
        gone = "UID:1\r\nRECURRENCE-ID:20260311T100000Z\r\nDTSTART:20260311T100000Z\r\nSTATUS:CANCELLED\r\nSUMMARY:Day"
        self.assertEqual(len(self.titles(series, gone)), 2)

    def test_several_calendars_in_one_file(self) -> None:
        one = "UID:1\r\nDTSTART:20260310T100000Z\r\nSUMMARY:One"
        two = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:2\r\nDTSTART:20260309T100000Z\r\nSUMMARY:Two\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        self.assertEqual(self.titles(one, around="{}" + two), ["Two", "One"])

    def test_in_the_order_of_time_whatever_the_zone(self) -> None:
        late = "UID:1\r\nDTSTART:20260310T230000Z\r\nSUMMARY:Second"
        early = "UID:2\r\nDTSTART;TZID=Asia/Tokyo:20260311T060000\r\nSUMMARY:First"
        whole = "UID:3\r\nDTSTART;VALUE=DATE:20260310\r\nSUMMARY:Whole day"
        self.assertEqual(self.titles(late, early, whole), ["Whole day", "First", "Second"])

    def test_what_is_no_calendar(self) -> None:
        for body in (b"", b"<html>", b"BEGIN:VCARD\r\nEND:VCARD", b"BEGIN:VCALENDAR"):
            with self.assertRaisesRegex(OutsideError, "not a calendar"):
                calendars.entries(body, *SPAN)


def ods(table: str) -> bytes:
    """An OpenDocument table, as programs write it that indent."""
    spaces = "\n    "
    content = f"""<?xml version="1.0"?>
<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"
  xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"
  office:version="1.3">
  <office:body>{spaces}<office:spreadsheet>{spaces}<table:table table:name="S">{spaces}{table}{spaces}</table:table>{spaces}</office:spreadsheet>
  </office:body>
</office:document-content>"""
    manifest = """<?xml version="1.0"?><manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">
<manifest:file-entry manifest:full-path="/" manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/>
<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>"""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as packed:
        packed.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        packed.writestr("META-INF/manifest.xml", manifest)
        packed.writestr("content.xml", content)
    return out.getvalue()


def cell(words: str, more: str = "") -> str:
    return f"<table:table-cell {more}>\n      <text:p>{words}</text:p>\n    </table:table-cell>"


class Tables(unittest.TestCase):
    def rows(self, *rows: str) -> list[dict[str, str]]:
        return documents.read(ods("\n    ".join(rows)), "x.ods").rows

    def row(self, *cells: str, more: str = "") -> str:
        return f"<table:table-row {more}>\n    {' '.join(cells)}\n    </table:table-row>"

    def test_empty_and_covered_cells_keep_their_place(self) -> None:
        head = self.row(*(cell(name) for name in ("Name", "Zip", "Town", "Mail")))
        gap = self.row(cell("Ines"), '<table:table-cell table:number-columns-repeated="2"/>', cell("i@a.example"))
        covered = self.row(
            cell("Mara", 'table:number-columns-spanned="2"'), "<table:covered-table-cell/>", cell("Ostrey"), cell("m@a.example")
        )
        found = self.rows(head, gap, covered)
        self.assertEqual(found[0], {"Name": "Ines", "Zip": "", "Town": "", "Mail": "i@a.example"})
        self.assertEqual(found[1], {"Name": "Mara", "Zip": "", "Town": "Ostrey", "Mail": "m@a.example"})

    def test_repeated_cells_and_rows_are_there_as_often(self) -> None:
        head = self.row(*(cell(name) for name in "ABC"))
        same = self.row(cell("x", 'table:number-columns-repeated="3"'), more='table:number-rows-repeated="2"')
        empty = self.row('<table:table-cell table:number-columns-repeated="1024"/>', more='table:number-rows-repeated="1048576"')
        self.assertEqual(self.rows(head, same, empty), [{"A": "x", "B": "x", "C": "x"}] * 2)


class Others(unittest.TestCase):
    def test_robots_with_a_mark_of_byte_order_and_longer_than_is_read(self) -> None:
        rules = b"User-agent: *\nDisallow: /secret\n"
        for body in (b"\xef\xbb\xbf" + rules, rules + b"# filling\n" * 90_000):
            server, web = raw(self, answering(body, "Content-Type: text/plain\r\n"))
            robots.check(web, f"{server.url}open")
            with self.assertRaisesRegex(OutsideError, "not to read"):
                robots.check(web, f"{server.url}secret")

    def test_srt_without_numbers(self) -> None:
        text = "00:00:01,000 --> 00:00:03,000\nFirst words.\n\n00:00:04,000 --> 00:00:06,000\nSecond words.\n"
        tight = "1\n00:00:01,000 --> 00:00:03,000\nFirst words.\n2\n00:00:04,000 --> 00:00:06,000\nSecond words.\n"
        for source in (text, tight):
            self.assertEqual([cue.text for cue in transcripts.parse(source)], ["First words.", "Second words."])

    def test_opml_in_any_case_and_namespace(self) -> None:
        for body in (
            '<OPML><BODY><OUTLINE TEXT="Folder"><OUTLINE TEXT="A" XMLURL="https://a.example/feed"/></OUTLINE></BODY></OPML>',
            '<o:opml xmlns:o="http://opml.org/spec2"><o:body><o:outline text="Folder"><o:outline text="A" xmlUrl="https://a.example/feed"/></o:outline></o:body></o:opml>',
        ):
            [found] = opml.parse(body.encode())
            self.assertEqual((found.title, found.feed, found.folder), ("A", "https://a.example/feed", "Folder"))
