"""The tracer and the crawler without sockets: servers that are dictionaries."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping

from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD
from upright_ledger.core.crawl.frontier import Limits
from upright_ledger.core.crawl.observation import CrawlOutcome, Observation
from upright_ledger.core.tracing.trace import Page, Trace
from upright_ledger.core.url.address import parse_address
from upright_ledger.web.http.crawler import CrawlPlan, Read, Start, crawl
from upright_ledger.web.http.options import RequestOptions
from upright_ledger.web.http.received import Response
from upright_ledger.web.http.tracer import MAX_HOPS, Target, trace_all
from upright_ledger.web.http.transport import Answered, OpenTransport, Request

HOSTS = frozenset({"www.quillhaven.example"})
QUIET = RequestOptions(rate=0.0, retries=2)
Answer = Callable[[str, str], Response]


class Memory:
    """Answers requests from a function of origin and target, the newest first."""

    def __init__(self, answer: Answer) -> None:
        self.answer = answer
        self.waiting: deque[Request] = deque()
        self.asked: list[str] = []

    @property
    def active(self) -> int:
        return len(self.waiting)

    def start(self, request: Request) -> None:
        self.waiting.appendleft(request)

    def wait(self, _seconds: float) -> list[Answered]:
        if not self.waiting:
            return []
        request = self.waiting.popleft()
        self.asked.append(f"{request.origin}{request.target}")
        response = self.answer(request.origin, request.target)
        return [Answered(request, response, again=response.error == "dropped")]


def over(memory: Memory) -> OpenTransport:
    return lambda _: memory


def trace(answer: Answer, *urls: str) -> tuple[dict[str, Trace], Memory]:
    memory, found = Memory(answer), {}

    def done(number: int, ended: Trace) -> None:
        found[urls[number]] = ended

    numbered = [(n, parse_address(url)) for n, url in enumerate(urls)]
    page = Page(title="A page")
    trace_all(numbered, Target(HOSTS), QUIET, lambda *_: page, done, transport=over(memory))
    return found, memory


def moved(location: str, status: int = 301) -> Response:
    return Response(status, {"location": location})


_NODES = st.integers(0, 11)


@given(st.dictionaries(_NODES, st.tuples(_NODES, st.sampled_from([301, 302, 303, 307, 308]))))
def test_a_trace_goes_where_the_redirects_lead(graph: Mapping[int, tuple[int, int]]) -> None:
    """Judged by walking the graph; each address asked once a trace, all traces at once."""

    def answer(_: str, target: str) -> Response:
        if (node := int(target[1:])) in graph:
            return moved(f"/{graph[node][0]}", graph[node][1])
        return Response(200)

    urls = [f"{OLD}/{n}" for n in range(12)]
    found, _ = trace(answer, *urls)
    for start in range(12):
        way = [start]
        while way[-1] in graph and len(way) <= MAX_HOPS:
            way.append(graph[way[-1]][0])
            if way[-1] in way[:-1]:
                break
        ended = found[urls[start]]
        assert ended.loops == (way[-1] in way[:-1] or len(way) > MAX_HOPS)
        assert ended.final_url == f"{OLD}/{way[-1]}"
        assert [hop.status for hop in ended.hops if hop.resolved] == [
            graph[node][1] for node in way[:-1]
        ]


def test_what_was_dropped_is_asked_again_and_no_more_than_that() -> None:
    tries: list[str] = []

    def answer(_: str, target: str) -> Response:
        tries.append(target)
        if target == "/never" or tries.count(target) < 2:
            return Response(error="dropped")
        return Response(200)

    found, _ = trace(answer, f"{OLD}/once", f"{OLD}/never")
    assert found[f"{OLD}/once"].final_status == 200
    assert found[f"{OLD}/never"].final_status == 0
    assert (tries.count("/once"), tries.count("/never")) == (2, 1 + QUIET.retries)


def test_a_server_that_asks_to_wait_is_asked_again() -> None:
    told = iter([Response(503, {"retry-after": "0"}), Response(429, {"retry-after": "0"})])
    found, memory = trace(lambda *_: next(told, Response(200)), f"{OLD}/busy")
    assert found[f"{OLD}/busy"].final_status == 200
    assert len(memory.asked) == 3


class Links:
    """Reads bodies that are lists of links, one a line."""

    waiting = 0

    def read(
        self, body: bytes, kind: str, url: str, follow: bool | None, then: Callable[[Read], None]
    ) -> None:
        then(Read(follow=tuple((f"{NEW}{t}", "a") for t in body.decode().split())))

    def collect(self) -> None:
        """Nothing is under way."""


@given(st.dictionaries(_NODES, st.lists(_NODES, max_size=4), min_size=1))
def test_a_crawl_sees_all_that_links_lead_to_once(links: Mapping[int, list[int]]) -> None:
    def answer(origin: str, target: str) -> Response:
        page = target[1:]
        if origin != NEW or not page.isdigit() or int(page) not in links:
            return Response(404)
        body = "\n".join(f"/{n}" for n in links[int(page)])
        return Response(200, {"content-type": "text/html"}, body.encode())

    seen: list[Observation] = []
    memory, first = Memory(answer), min(links)
    plan = CrawlPlan(
        Start((parse_address(f"{NEW}/{first}"),)),
        Limits(HOSTS),
        Target(HOSTS),
        QUIET,
        own_site=True,
    )
    crawl(plan, Links(), lambda one, _: seen.append(one), transport=over(memory))
    reached, border = {first}, [first]
    while border:
        new = set(links.get(border.pop(), ())) - reached
        reached |= new
        border += new
    answered = {o.url for o in seen if o.outcome == CrawlOutcome.ANSWERED}
    assert answered == {f"{NEW}/{n}" for n in reached if n in links}
    assert sorted(memory.asked) == sorted(set(memory.asked))
