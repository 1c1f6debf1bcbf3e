"""Prosody, Postfix, Dovecot and Apache, each on a free port with its data in a folder of its own.

Without root, or where one is not installed, its tests are left out; in CI and with ``PEERS=1`` a test that would be left out fails.
"""

from __future__ import annotations

import contextlib
import email
import os
import pwd
import shutil
import signal
import socket
import subprocess
import tempfile
import time
import unittest
from collections.abc import Callable
from email.message import EmailMessage
from email.policy import default
from pathlib import Path
from typing import Any

from practice_town.app import _free_port as free_port

WANTED = bool(os.environ.get("CI") or os.environ.get("PEERS"))
PROSODY, POSTFIX, APACHE = "/usr/bin/prosody", "/usr/sbin/postfix", "/usr/sbin/apache2"
DOVECOT, REDIS = "/usr/sbin/dovecot", "/usr/bin/redis-server"


def needs(server: str) -> Callable[[Any], Any]:
    """Mark a test class that needs a server."""
    if os.path.exists(server) and os.getuid() == 0:
        return lambda tests: tests
    if not WANTED:
        return unittest.skip(f"needs {server}, and root to run it")

    class Missing(unittest.TestCase):
        def test_the_server_is_there(self) -> None:
            self.fail(f"{server} is not installed, or this is not root")

    return lambda tests: Missing


class Server:
    """A server in a folder of its own. `command` starts it in the foreground."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="peer-"))
        self.folder.chmod(0o755)
        self.port = free_port()
        self.prepare()
        self.log = (self.folder / "log").open("wb")
        self.begin()

    def begin(self) -> None:
        """Start it, also once more where it was killed."""
        self.process = subprocess.Popen(self.command(), stdout=self.log, stderr=self.log, start_new_session=True)
        self._until_it_answers()

    def prepare(self) -> None:
        """Write its configuration."""

    def command(self) -> list[str]:
        """What to run."""
        raise NotImplementedError

    def end(self) -> None:
        """Have it end by its own means, where it has some."""

    def _until_it_answers(self) -> None:
        end = time.monotonic() + 20
        while time.monotonic() < end and self.process.poll() is None:
            try:
                socket.create_connection(("127.0.0.1", self.port), 1).close()
                return
            except OSError:
                time.sleep(0.05)
        words = (self.folder / "log").read_text("utf-8", "replace")
        self.stop()
        raise RuntimeError(f"it did not start: {words[-2000:]}")

    def stop(self) -> None:
        """Stop it, with all it began, and forget its data."""
        self.end()
        if self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(10)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        # What it began is in a group of its own, and goes with it.
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, signal.SIGKILL)
        self.log.close()
        shutil.rmtree(self.folder, ignore_errors=True)


class Prosody(Server):
    """A chat server with the account ulmus@town.test (password “practice”) and rooms at rooms.town.test."""

    def prepare(self) -> None:
        accounts = self.folder / "data" / "town%2etest" / "accounts"
        accounts.mkdir(parents=True)
        for name in ("ulmus", "reader", "ines"):
            (accounts / f"{name}.dat").write_text('return { ["password"] = "practice"; };\n', "utf-8")
        (self.folder / "prosody.cfg.lua").write_text(
            f"""
run_as_root = true
pidfile = "{self.folder}/pid"
data_path = "{self.folder}/data"
certificates = "{self.folder}"
interfaces = {{ "127.0.0.1" }}
c2s_ports = {{ {self.port} }}
modules_enabled = {{ "saslauth", "tls", "disco" }}
modules_disabled = {{ "s2s" }}
authentication = "internal_plain"
c2s_require_encryption = false
allow_unencrypted_plain_auth = true
log = {{ info = "*console" }}
VirtualHost "town.test"
Component "rooms.town.test" "muc"
  modules_enabled = {{ "muc_mam" }}
  muc_log_by_default = true
  muc_room_locking = false
  muc_room_default_persistent = true
  muc_room_default_history_length = 100
  max_history_messages = 100
""",
            "utf-8",
        )

    def command(self) -> list[str]:
        return [PROSODY, "--config", str(self.folder / "prosody.cfg.lua"), "-F"]


class Redis(Server):
    """A Redis that keeps nothing on disk."""

    def prepare(self) -> None:
        pass

    def command(self) -> list[str]:
        return [
            REDIS,
            "--port",
            str(self.port),
            "--bind",
            "127.0.0.1",
            "--save",
            "",
            "--appendonly",
            "no",
            "--dir",
            str(self.folder),
        ]


class Postfix(Server):
    """A mail server that takes mail for anybody at lead.example into one mailbox, and says so only once it is on disk."""

    def prepare(self) -> None:
        for part in ("config", "queue", "data", "box"):
            (self.folder / part).mkdir()
        owner = pwd.getpwnam("postfix")
        os.chown(self.folder / "data", owner.pw_uid, owner.pw_gid)
        keeper = pwd.getpwnam("mail")
        os.chown(self.folder / "box", keeper.pw_uid, keeper.pw_gid)
        (self.folder / "config" / "main.cf").write_text(
            f"""
compatibility_level = 3.6
queue_directory = {self.folder}/queue
data_directory = {self.folder}/data
mail_owner = postfix
setgid_group = postdrop
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
myhostname = post.town.test
mydestination =
mynetworks = 127.0.0.0/8
virtual_mailbox_domains = lead.example
virtual_mailbox_base = {self.folder}/box
virtual_mailbox_maps = static:all/
virtual_uid_maps = static:{keeper.pw_uid}
virtual_gid_maps = static:{keeper.pw_gid}
virtual_minimum_uid = 1
smtpd_relay_restrictions = permit_mynetworks, reject
smtpd_recipient_restrictions = reject_unauth_destination, permit
smtpd_client_connection_rate_limit = 0
smtpd_forbid_bare_newline = yes
default_transport = error:nothing leaves this machine
relay_transport = error:nothing leaves this machine
maillog_file = {self.folder}/mail.log
maillog_file_prefixes = {self.folder}
message_size_limit = 2000000
""",
            "utf-8",
        )
        standard = Path("/usr/share/postfix/master.cf.dist").read_text("utf-8")
        lines = [line for line in standard.splitlines() if not line.startswith(("smtp      inet", "#"))]
        lines = [_no_chroot(line) for line in lines]
        lines.insert(0, f"127.0.0.1:{self.port} inet n - n - - smtpd")
        (self.folder / "config" / "master.cf").write_text("\n".join(lines) + "\n", "utf-8")

    def command(self) -> list[str]:
        return [POSTFIX, "-c", str(self.folder / "config"), "start-fg"]

    def end(self) -> None:
        # Its master is a process of its own that outlives the one that began it.
        subprocess.run([POSTFIX, "-c", str(self.folder / "config"), "stop"], capture_output=True, timeout=30, check=False)

    def letters(self) -> list[EmailMessage]:
        """What it delivered, oldest first."""
        box = self.folder / "box" / "all"  # whoever reads it moves what is new to what is known (Maildir)
        found = sorted([*box.glob("new/*"), *box.glob("cur/*")], key=lambda path: path.stat().st_mtime_ns)
        return [email.message_from_bytes(path.read_bytes(), policy=default) for path in found]


class Dovecot(Server):
    """A mailbox server by IMAP over what a `Postfix` delivers, for the user box@lead.example with the password practice."""

    def __init__(self, post: Postfix) -> None:
        self.post = post
        super().__init__()

    def prepare(self) -> None:
        keeper = pwd.getpwnam("mail")
        for part in ("run", "home"):
            (self.folder / part).mkdir()
        os.chown(self.folder / "home", keeper.pw_uid, keeper.pw_gid)
        for folder in (self.folder, self.post.folder):
            folder.chmod(0o755)
        (self.folder / "dovecot.conf").write_text(
            f"""
base_dir = {self.folder}/run
log_path = {self.folder}/dovecot.log
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
mail_location = maildir:{self.post.folder}/box/all
first_valid_uid = 1
first_valid_gid = 1
passdb {{
  driver = static
  args = password=practice
}}
userdb {{
  driver = static
  args = uid={keeper.pw_uid} gid={keeper.pw_gid} home={self.folder}/home
}}
service imap-login {{
  inet_listener imap {{
    port = {self.port}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
""",
            "utf-8",
        )

    def command(self) -> list[str]:
        return [DOVECOT, "-F", "-c", str(self.folder / "dovecot.conf")]


def _no_chroot(line: str) -> str:
    """A line of master.cf whose service stays outside a folder of its own."""
    parts = line.split()
    return " ".join([*parts[:4], "n", *parts[5:]]) if line[:1].strip() and parts[4:5] == ["y"] else line


class Apache(Server):
    """A file store by WebDAV (mod_dav) at ``/files`` for the user office with the password files-key."""

    def prepare(self) -> None:
        owner = pwd.getpwnam("www-data")
        for part in ("files", "lock"):
            (self.folder / part).mkdir()
            os.chown(self.folder / part, owner.pw_uid, owner.pw_gid)
        modules = (
            "mpm_event",
            "authn_core",
            "authn_file",
            "authz_core",
            "authz_user",
            "auth_basic",
            "dav",
            "dav_fs",
            "dav_lock",
            "mime",
        )
        load = "\n".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in modules)
        secret = subprocess.run(
            ["openssl", "passwd", "-apr1", "files-key"], capture_output=True, text=True, check=True
        ).stdout.strip()
        (self.folder / "users").write_text(f"office:{secret}\n", "utf-8")
        (self.folder / "apache.conf").write_text(
            f"""
{load}
ServerRoot {self.folder}
ServerName 127.0.0.1
Listen 127.0.0.1:{self.port}
PidFile {self.folder}/pid
User www-data
Group www-data
ErrorLog {self.folder}/error.log
TypesConfig /etc/mime.types
DavLockDB {self.folder}/lock/db
Alias_Off Off
DocumentRoot {self.folder}
<Location /files>
  Dav On
  AuthType Basic
  AuthName files
  AuthUserFile {self.folder}/users
  Require valid-user
</Location>
""".replace("Alias_Off Off\n", ""),
            "utf-8",
        )

    def command(self) -> list[str]:
        return [APACHE, "-f", str(self.folder / "apache.conf"), "-DFOREGROUND"]
