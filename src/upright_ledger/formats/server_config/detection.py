"""Files of redirect rules, whatever server they are for."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.rules.imported.rule import (
    HOST,
    RAW,
    TARGET,
    Condition,
    ImportedRule,
    PatternNotUnderstoodError,
    PieceKind,
    QueryEdit,
)
from upright_ledger.errors import InputError
from upright_ledger.formats.detection import CADDY_RULE, OF_ROWS, FileKind, recognise
from upright_ledger.formats.files.text import read_text, with_line_feeds
from upright_ledger.formats.from_to import from_to, is_frame
from upright_ledger.formats.records import Aside, Item, Reading, ReadOptions, Record, Reject
from upright_ledger.formats.server_config.apache_servers import read_apache
from upright_ledger.formats.server_config.nginx_servers import read_nginx
from upright_ledger.formats.server_config.rules_read import (
    NOTHING_SAID,
    RulesRead,
    ServerSetup,
    path_below,
)
from upright_ledger.formats.tables.pairs import read_pairs
from upright_ledger.formats.tables.status_words import status_word

_NOTES = 5
"""Notes on single lines that are told."""

APACHE, NGINX, CADDY, MAP, PAIRS = "apache", "nginx", "caddy", "map", "pairs"
_APACHE_LINE = re.compile(
    r"^\s*(?:Redirect(?:Match|Permanent|Temp)?|Rewrite(?:Rule|Cond|Engine|Base|Map)|<IfModule|"
    r"<VirtualHost)\b",
    re.MULTILINE | re.IGNORECASE,
)
_NGINX_LINE = re.compile(
    r"^\s*(?:(?:server|location|map|if)\b[^\n;]*\{|rewrite\s+\S+\s+\S+.*;|return\s+\S+.*;|"
    r"[^\s;{}#]+\s+[^\s;{}]+\s*;)",
    re.MULTILINE,
)
_MAP_LINE = re.compile(r"^(?!#)\S+[ \t]+\S+[ \t]*\r?$")
_STATUSES = {"permanent": 301, "temporary": 302}


def dialect_of(path: Path, text: str) -> str:
    """What language a file of rules is in. Raises InputError where it is in none that is known."""
    if path.name.endswith("htaccess") or _APACHE_LINE.search(text):
        return APACHE
    lines = [x for x in text.split("\n") if x.strip() and not x.lstrip().startswith("#")]
    if CADDY_RULE.search(text):
        return CADDY
    if _NGINX_LINE.search(text) and not all(map(from_to, lines)):
        return NGINX
    if recognise(path) in set(OF_ROWS) - {FileKind.TABLE} or (
        lines and "," in lines[0] and not _MAP_LINE.match(lines[0])
    ):
        return PAIRS
    lines = [line for line in lines if from_to(line) or not is_frame(line)]
    of_map = sum(1 for x in lines if _MAP_LINE.match(x) or from_to(x))
    if lines and of_map > 0.9 * len(lines):
        return MAP
    if recognise(path) == FileKind.TABLE:
        return PAIRS
    raise InputError(
        f"{path} holds no redirect rules that are known",
        "files of Apache, nginx, HAProxy and Caddy, and sheets of pairs are read",
    )


def read_rule_file(
    path: Path, encoding: str = "", given: ServerSetup | None = None
) -> tuple[str, RulesRead]:
    """The language of a file, and its rules in the order in which they are asked. given: what is
    known of the server it is for.
    """
    if recognise(path) in {FileKind.SHEET, FileKind.COLUMNS, FileKind.DATABASE}:
        return PAIRS, _read_pairs(path, encoding)
    text = with_line_feeds(read_text(path, encoding))
    kind = dialect_of(path, text)
    if kind == PAIRS:
        return kind, _read_pairs(path, encoding)
    given = given or NOTHING_SAID
    try:
        if kind == APACHE:
            folder, doubt = _apache_place(path, text, given)
            # A part of a server's file says nothing of the engine: it is on where the part stands.
            part = not folder and not _SERVER_LINE.search(text) and not _ENGINE_LINE.search(text)
            engine = True if part else None
            return kind, read_apache(
                text, path.name, folder=folder, given=given, doubt=doubt, engine=engine
            )
        if kind == NGINX:
            return kind, read_nginx(text, path.name, given)
        return kind, (_read_caddy if kind == CADDY else _read_map)(text, path.name)
    except PatternNotUnderstoodError as error:
        raise InputError(
            f"{path} cannot be read as {kind} rules: {error}",
            "check the file with the server's own check",
        ) from None


_SERVER_LINE = re.compile(
    r"^\s*<?(?:VirtualHost|Directory|DocumentRoot|ServerName|Listen|LoadModule)\b",
    re.MULTILINE | re.IGNORECASE,
)
_ENGINE_LINE = re.compile(r"^\s*RewriteEngine\b", re.MULTILINE | re.IGNORECASE)
_BASE_LINE = re.compile(r"^\s*RewriteBase\s+[\"']?(\S+?)[\"']?\s*$", re.MULTILINE | re.IGNORECASE)


def _apache_place(path: Path, text: str, given: ServerSetup) -> tuple[str, str]:
    """The path of the folder whose .htaccess a file is, empty for a server's file, and why that is
    not known, if it is not.
    """
    patterns = [
        p.lstrip("!(")
        for p in re.findall(r"^\s*RewriteRule\s+[\"']?(\S+)", text, re.MULTILINE | re.IGNORECASE)
    ]
    whole = any(p.startswith(("^/", "^(/")) for p in patterns)
    inner = any(re.match(r"\^[^/$.(]|\^\(?[A-Za-z0-9]", p) for p in patterns)
    if "htaccess" not in path.name:
        if not patterns or _SERVER_LINE.search(text) or (whole and not inner):
            return "", ""
        if whole or not inner:
            return "", "its patterns do not tell whether it is a .htaccess: name it so if it is one"
    if given.document_root:
        here = path_below(str(path.resolve().parent), str(Path(given.document_root).resolve()))
        if here is None:
            raise InputError(
                f"{path} does not lie below {given.document_root}",
                "give --document-root the folder of the site's root",
            )
        return here, ""
    base = _BASE_LINE.findall(text)
    if base and base[-1].strip("/"):
        return (
            "/",
            (
                f"it says RewriteBase {base[-1][:60]}, and may stand in another folder than the "
                "root: "
                "--document-root says where the site begins"
            ),
        )
    return "/", ""


def read_rules(path: Path, options: ReadOptions) -> Reading:
    """Redirect rules: those about one address name an old URL; the others are set aside as
    patterns, and answer all the same.
    """
    kind, read = read_rule_file(path, options.encoding, options.around)
    notes = [f"line {line}: {what}" for line, what in read.notes[:_NOTES]]
    if len(read.notes) > _NOTES:
        notes.append(f"the same holds for {len(read.notes) - _NOTES:,} more lines")
    return Reading(_items(read), {"language": kind}, notes, rules=tuple(read.rules))


def _items(read: RulesRead) -> Iterator[Item]:
    missed = {line for line, _, _ in read.missed}
    for rule in read.rules:
        line = int(rule.where.rpartition(":")[2])
        if line in missed:
            continue  # it stands for what was not understood
        if rule.address:
            url = f"http://{rule.host}{rule.address}" if rule.host else rule.address
            yield Record(line, url, figures=[Figure(LISTED, 1.0)])
        else:
            yield Aside(line, AsideClass.PATTERN_RULE, rule.pattern[:500])
    for line, why, text in read.missed:
        yield Reject(line, f"not understood: {why}", text)


def _read_map(text: str, name: str) -> RulesRead:
    """HAProxy's map files, and plain lists: a path up to the first blank, and where it goes."""
    out = RulesRead()
    for number, line in enumerate(text.split("\n"), 1):
        bare = line.strip()
        if told := from_to(bare):
            out.rules.append(_literal(f"{name}:{number}", told.old, told.new, told.status))
            continue
        if is_frame(bare):
            continue
        key, _, value = bare.partition(" " if " " in bare else "\t")
        if not value.strip():
            out.missed.append((number, "it has no value", bare[:300]))
            continue
        out.rules.append(_literal(f"{name}:{number}", key, value.strip(), 301))
    return out


def _read_caddy(text: str, name: str) -> RulesRead:
    """The redirects of a Caddyfile that are about one path each."""
    out = RulesRead()
    for number, line in enumerate(text.split("\n"), 1):
        told = CADDY_RULE.match(line)
        if told is None:
            if re.match(r"\s*(?:redir|rewrite|uri|try_files|map)\b", line):
                out.miss(number, "it is no plain redirect of one path", line.strip())
            continue
        old, new = told["old"], told["new"] or ""
        if not old.startswith("/") or "*" in old or "{" in old + new or not new:
            out.miss(number, "it is about more than one path", line.strip())
            continue
        code = (told["code"] or "302").lower()
        status = _STATUSES.get(code) or (int(code) if code.isdigit() else 0)
        if status not in {301, 302, 307, 308}:
            out.miss(number, f"{code} is no status of a redirect", line.strip())
            continue
        out.rules.append(_literal(f"{name}:{number}", old, new, status))
    return out


def _literal(where: str, old: str, new: str, status: int) -> ImportedRule:
    host = re.match(r"https?://([^/:?#]+)", old)
    path = re.sub(r"^https?://[^/?#]+", "", old).partition("#")[0]
    path = path if path.startswith("/") else f"/{path}"
    hosts = (Condition(HOST, host[1].lower(), literal=True),) if host else ()
    goal = ((PieceKind.TEXT, new),) if status != 410 else ()
    return ImportedRule(
        where,
        TARGET if "?" in path else RAW,
        path,
        status,
        goal,
        literal=True,
        conditions=hosts,
        query=QueryEdit.DROP,
    )


def _read_pairs(path: Path, encoding: str) -> RulesRead:
    out = RulesRead()
    pairs = read_pairs(path, ReadOptions(encoding))
    out.missed = [(line, why, "") for line, why in pairs.rejected]
    for pair in pairs.rows:
        digits = re.match(r"\d{3}\b", pair.status)
        word = status_word(pair.status)
        status = int(digits[0]) if digits else 410 if word == "gone" else int(word or 301)
        if pair.is_template or status not in {301, 302, 307, 308, 410}:
            out.missed.append(
                (
                    pair.line,
                    "it is a template: upright decide --from takes it"
                    if pair.is_template
                    else f"{pair.status} is no status of a redirect",
                    pair.old,
                )
            )
            continue
        out.rules.append(_literal(f"{path.name}:{pair.line}", pair.old, pair.new, status))
    return out
