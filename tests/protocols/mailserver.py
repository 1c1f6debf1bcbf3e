"""A real IMAP server (Dovecot) with one mailbox, for as long as a test lasts."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
import time
from email.message import EmailMessage
from pathlib import Path

from practice_town.app import _free_port as free_port

SERVER = shutil.which("dovecot") or "/usr/sbin/dovecot"
CONFIG = """
base_dir = {folder}/run
state_dir = {folder}/state
log_path = {folder}/log
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
first_valid_uid = 1
mail_location = maildir:{folder}/mail/%u
service imap-login {{
  inet_listener imap {{
    port = {port}
  }}
  inet_listener imaps {{
    port = 0
  }}
  chroot =
}}
service anvil {{
  chroot =
}}
auth_mechanisms = plain oauthbearer
passdb {{
  driver = oauth2
  mechanisms = oauthbearer
  args = {folder}/oauth2.conf
}}
passdb {{
  driver = static
  mechanisms = plain
  args = password=practice
}}
userdb {{
  driver = static
  args = uid=mail gid=mail home={folder}/mail/%u
}}
"""


TOKENS = """
introspection_url = {introspect}?token=
introspection_mode = get
username_attribute = username
active_attribute = active
active_value = true
"""


class MailServer:
    """Dovecot on a free port, its data in a folder of its own. The user's password is “practice”; tokens are good that the address
    `introspect` (RFC 7662) says are."""

    def __init__(self, user: str = "office", introspect: str = "http://127.0.0.1:9/") -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.port = free_port()
        self.box = self.folder / "mail" / user
        owner = pwd.getpwnam("mail")
        self._owner = (owner.pw_uid, owner.pw_gid)
        for part in ("cur", "new", "tmp"):
            (self.box / part).mkdir(parents=True)
        config = self.folder / "dovecot.conf"
        config.write_text(CONFIG.format(folder=self.folder, port=self.port), "utf-8")
        (self.folder / "oauth2.conf").write_text(TOKENS.format(introspect=introspect), "utf-8")
        self.folder.chmod(0o755)
        self._own()
        self._process = subprocess.Popen([SERVER, "-F", "-c", str(config)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self._count = 0
        for _ in range(100):
            if "starting up" in ((self.folder / "log").read_text("utf-8") if (self.folder / "log").exists() else ""):
                break
            time.sleep(0.05)

    def deliver(self, subject: str, text: str, sender: str = "Petra <petra@lockhouse.example>", **headers: str) -> None:
        """Put a mail into the mailbox."""
        mail = EmailMessage()
        mail["From"], mail["To"], mail["Subject"] = sender, "office@hedgelane.example", subject
        mail["Message-ID"] = f"<{self._count}@lockhouse.example>"
        mail["Date"] = "Mon, 02 Mar 2026 08:00:00 +0000"
        for name, value in headers.items():
            mail[name.replace("_", "-")] = value
        mail.set_content(text)
        self.put(mail.as_bytes())

    def put(self, raw: bytes) -> None:
        """Put raw bytes into the mailbox as a mail."""
        self._count += 1
        name = f"{1_770_000_000 + self._count}.M{self._count}P1.test"
        (self.box / "tmp" / name).write_bytes(raw)
        os.chown(self.box / "tmp" / name, *self._owner)
        os.rename(self.box / "tmp" / name, self.box / "new" / name)

    def _own(self) -> None:
        for path in [self.folder / "mail", *(self.folder / "mail").rglob("*")]:
            os.chown(path, *self._owner)

    def stop(self) -> None:
        """Stop the server and forget its data."""
        self._process.terminate()
        self._process.wait(10)
        shutil.rmtree(self.folder, ignore_errors=True)
