"""Sending messages: by e-mail over SMTP, and as JSON to an address."""

from __future__ import annotations

import io
import json
import smtplib
import ssl
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formatdate
from typing import Any

import pycurl

from upright_ledger.core.word import Word
from upright_ledger.errors import InputError


class MailSecurity(Word):
    """How mail is sent."""

    STARTTLS = "starttls"
    TLS = "tls"
    PLAIN = "none"


@dataclass(frozen=True, slots=True)
class Mail:
    """How e-mail goes out. tls: STARTTLS, TLS from the start, or PLAIN. user: empty without a
    login; ca: a file of certificates to trust, or empty.
    """

    server: str
    port: int
    sender: str
    to: tuple[str, ...]
    tls: str = MailSecurity.STARTTLS
    user: str = ""
    password: str = ""
    ca: str = ""
    seconds: float = 30.0


def send_mail(mail: Mail, identity: str, subject: str, body: str) -> list[str]:
    """Send one message; returns which recipients the server refused, in words, where others have
    it. identity: of the message, by which a mail server knows it again. Raises InputError where
    nobody has it.
    """
    message = EmailMessage()
    message["Subject"] = " ".join(subject.split())
    message["From"] = mail.sender
    message["To"] = ", ".join(mail.to)
    message["Date"] = formatdate()
    message["Message-ID"] = f"<{identity}@{mail.sender.rpartition('@')[2] or 'upright'}>"
    message.set_content(body)
    try:
        context = ssl.create_default_context(cafile=mail.ca or None)
        if mail.tls == MailSecurity.TLS:
            with smtplib.SMTP_SSL(
                mail.server, mail.port, timeout=mail.seconds, context=context
            ) as smtp:
                refused = _hand_in(smtp, mail, message)
        else:
            with smtplib.SMTP(mail.server, mail.port, timeout=mail.seconds) as smtp:
                if mail.tls == MailSecurity.STARTTLS:
                    smtp.starttls(context=context)
                refused = _hand_in(smtp, mail, message)
    except (smtplib.SMTPException, OSError, ValueError) as error:
        where = f"{mail.server}:{mail.port}"
        raise InputError((
            f"the mail could not be handed to {where}: {_words(error)}"
        ), "check [notify] of upright.toml; it is kept") from None  # fmt: skip
    return _each(refused)


_Refused = dict[str, tuple[int, bytes]]


def _hand_in(smtp: smtplib.SMTP, mail: Mail, message: EmailMessage) -> _Refused:
    if mail.user:
        smtp.login(mail.user, mail.password)
    return smtp.send_message(message)


def _each(refused: _Refused) -> list[str]:
    return [
        f"{who}: {code} {told.decode('utf-8', 'replace')}"
        for who, (code, told) in sorted(refused.items())
    ]


def _words(error: Exception) -> str:
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        return "; ".join(_each(error.recipients))
    if isinstance(error, UnicodeError):
        return "an address or a name holds letters that mail does not carry"
    if isinstance(error, smtplib.SMTPResponseException):
        told = error.smtp_error
        return (
            f"{error.smtp_code} "
            f"{told.decode('utf-8', 'replace') if isinstance(told, bytes) else told}"
        )
    return str(error) or type(error).__name__


def post_json(url: str, data: dict[str, Any], seconds: float = 30.0) -> None:
    """Post an object as JSON to an address; anything but a 2xx is a failure. Raises InputError."""
    answer, curl = io.BytesIO(), pycurl.Curl()
    try:
        curl.setopt(pycurl.NOSIGNAL, 1)
        curl.setopt(pycurl.URL, url.encode())
        curl.setopt(pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
        curl.setopt(pycurl.TIMEOUT_MS, int(seconds * 1000))
        curl.setopt(pycurl.HTTPHEADER, ["Content-Type: application/json", "Expect:"])
        curl.setopt(pycurl.POSTFIELDS, json.dumps(data).encode("utf-8"))
        curl.setopt(
            pycurl.WRITEFUNCTION,
            lambda chunk: answer.write(chunk[: max(0, 4096 - answer.tell())]) and None,
        )
        curl.perform()
        status = int(curl.getinfo(pycurl.RESPONSE_CODE))
    except pycurl.error as error:
        raise InputError((
            f"{url} could not be posted to: {error.args[1]}"
        ), "check [notify] of upright.toml; the message is kept") from None  # fmt: skip
    finally:
        curl.close()
    if not 200 <= status < 300:
        raise InputError(
            f"{url} answers {status} to the message",
            "check [notify] of upright.toml; the message is kept",
        )
