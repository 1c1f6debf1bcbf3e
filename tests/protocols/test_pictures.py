"""Pictures and saved files over real sockets: the picture maker, the file store (WsgiDAV), posts with photos."""

from __future__ import annotations

import io

from PIL import Image

from tests.protocols.outside import WithTown
from ulmus.protocols import filestore, micropub, pictures
from ulmus.protocols.errors import OutsideError


def photo(width: int = 80, height: int = 60, kind: str = "JPEG") -> bytes:
    """A small real photo."""
    out = io.BytesIO()
    Image.new("RGB", (width, height), "#557799").save(out, kind)
    return out.getvalue()


class Pictures(WithTown):
    @property
    def maker(self) -> pictures.Maker:
        return pictures.Maker(f"{self.town.url}/pictures/v1", "brushes-key")

    def test_a_real_picture_in_the_size_and_colours_asked_for(self) -> None:
        made = pictures.make(self.web, self.maker, "A hill, #112233 and #ddeeff.", "1536x1024")
        self.assertEqual((made.type, made.width, made.height), ("image/png", 1536, 1024))
        with Image.open(io.BytesIO(made.content)) as opened:
            self.assertEqual(opened.convert("RGB").getpixel((1, 1)), (0xDD, 0xEE, 0xFF))
        again = pictures.make(self.web, self.maker, "A hill, #112233 and #ddeeff.", "1536x1024")
        self.assertEqual(again.content, made.content)

    def test_a_photo_to_begin_from_shows_through(self) -> None:
        begun = pictures.make(self.web, self.maker, "A hill.", "1024x1024", pictures.inspect(photo()))
        plain = pictures.make(self.web, self.maker, "A hill.", "1024x1024")
        self.assertNotEqual(begun.content, plain.content)
        with Image.open(io.BytesIO(begun.content)) as opened:
            red, _, blue = opened.convert("RGB").getpixel((5, 5))  # type: ignore[misc]
        self.assertGreater(blue, red)

    def test_a_maker_that_gives_addresses_is_understood(self) -> None:
        self.fault("pictures", "links")
        self.assertEqual(pictures.make(self.web, self.maker, "A hill.", "1024x1024").type, "image/png")

    def test_each_fault_has_its_words(self) -> None:
        for mode, words in (
            ("down", "fault of its own"),
            ("busy", "slow down"),
            ("garbage", "no picture"),
            ("refuse", "against our rules"),
        ):
            with self.subTest(mode=mode):
                self.fault("pictures", mode)
                with self.assertRaises(OutsideError) as caught:
                    pictures.make(self.web, self.maker, "A hill.", "1024x1024")
                self.assertIn(words, caught.exception.message)
        self.fault("pictures", "")
        with self.assertRaises(OutsideError) as caught:
            pictures.make(self.web, pictures.Maker(f"{self.town.url}/pictures/v1", "wrong"), "A hill.", "1024x1024")
        self.assertIn("key", caught.exception.message)

    def test_what_is_no_picture_is_refused(self) -> None:
        for content in (b"", b"GIF89a", b"<svg onload='x()'/>", photo()[:40], b"\x89PNG\r\n\x1a\n" + b"\0" * 50):
            with self.subTest(content=content[:20]), self.assertRaises(OutsideError):
                pictures.inspect(content)
        for kind in ("PNG", "JPEG", "WEBP", "GIF"):
            self.assertEqual(pictures.inspect(photo(kind=kind)).width, 80)

    def test_a_bomb_is_refused_by_what_it_says_of_itself(self) -> None:
        out = io.BytesIO()
        Image.new("1", (30_000, 30_000)).save(out, "PNG")
        self.assertLess(len(out.getvalue()), 1_000_000)
        with self.assertRaises(OutsideError):
            pictures.inspect(out.getvalue())


class Saved(WithTown):
    def test_a_file_is_saved_with_the_folders_it_stands_in_and_again_without_harm(self) -> None:
        import base64

        told = base64.b64encode(b"office:files-key").decode()
        store = filestore.Folder(f"{self.town.url}/files/", {"Authorization": f"Basic {told}"})
        for content in (b"one", b"two"):
            link = filestore.save(self.web, store, "Kits/Midsummer pea/words & all.html", content, "text/html")
            self.assertEqual(filestore.fetch(self.web, store, "Kits/Midsummer pea/words & all.html").body, content)
        self.assertTrue(link.endswith("/Kits/Midsummer%20pea/words%20%26%20all.html"))
        self.assertEqual([e.name for e in filestore.listing(self.web, store, "Kits")], ["Midsummer pea"])
        with self.assertRaises(OutsideError):
            filestore.save(self.web, store, "../out.html", b"x", "text/html")
        with self.assertRaises(OutsideError):
            filestore.save(self.web, filestore.Folder(store.url), "a.txt", b"x", "text/plain")

    def test_a_photo_goes_along_with_a_post(self) -> None:
        endpoint = micropub.Endpoint(f"{self.town.url}/pondside/micropub", "pond-token")
        micropub.create(
            self.web, endpoint, micropub.Post("With a photo", "k1", photos=(micropub.Picture(("a.jpg", "image/jpeg", photo())),))
        )
        micropub.create(
            self.web, endpoint, micropub.Post("With an address", "k2", photos=(micropub.Picture("https://a.example/a.png"),))
        )
        first, second = self.town.state.posts
        self.assertEqual((first["content"], first["uid"]), ("With a photo", "k1"))
        self.assertTrue(first["photo"].startswith("data:image/jpeg;base64,"))
        self.assertEqual(second["photo"], "https://a.example/a.png")
        self.assertIsNotNone(micropub.find(self.web, endpoint, "k1").link)
