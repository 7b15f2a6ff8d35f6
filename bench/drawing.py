"""The interface in a browser: the first chart after a click, and frames while zooming, with the demonstration's data."""

from statistics import median

import psycopg
from playwright.sync_api import Page

from bench.ports import free_port
from bench.serving import browser, sign_in, wait_for
from bench.setting import URL, Figure, process, report

CLICKS = 12
TURNS = 60

CLICK_TO_CHART = """(row) => new Promise((resolve) => {
    const began = performance.now();
    const drawn = () => {
        const canvas = document.querySelector("article .uplot canvas");
        const middle = canvas?.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data;
        if (middle?.some((value) => value !== 0)) resolve(performance.now() - began);
        else requestAnimationFrame(drawn);
    };
    row.click();
    requestAnimationFrame(drawn);
})"""
ZOOM = """(turns) => new Promise((resolve) => {
    const over = document.querySelector("article .u-over");
    const box = over.getBoundingClientRect();
    const frames = [];
    let last = performance.now();
    let turn = 0;
    const frame = (now) => {
        frames.push(now - last);
        last = now;
        if (turn === turns) return resolve(frames.slice(2));
        const at = { clientX: box.x + box.width / 2, clientY: box.y + 40, ctrlKey: true, bubbles: true, cancelable: true };
        over.dispatchEvent(new WheelEvent("wheel", { ...at, deltaY: turn < turns / 2 ? -1 : 1 }));
        turn += 1;
        requestAnimationFrame(frame);
    };
    requestAnimationFrame(frame);
})"""


def _clicks(page: Page, base: str) -> list[float]:
    """Milliseconds from a click on a port in the list to its chart, each of another port."""
    times = []
    for number in range(CLICKS):
        page.goto(f"{base}/fleet?words=Transport")
        row = page.locator("a[data-row]").nth(number)
        row.wait_for()
        page.wait_for_timeout(400)
        times.append(float(row.evaluate(CLICK_TO_CHART)))
    return times


def draw() -> None:
    """Both, in headless Chromium without a graphics card."""
    with psycopg.connect(URL) as asking:
        row = asking.execute("SELECT id FROM inventory_interface WHERE role = 'wan' ORDER BY id LIMIT 1").fetchone()
    if row is None:
        raise SystemExit("bench draw: the demonstration data is not loaded; run ./lumtar demo once, then again.")
    port = free_port()
    arguments = ("lumtar.server.asgi:application", "--port", str(port), "--log-level", "error")
    with process("uvicorn", *arguments), browser() as page:
        wait_for(port)
        base = f"http://127.0.0.1:{port}"
        sign_in(page, base)
        clicks = _clicks(page, base)
        page.goto(f"{base}/fleet/port/{row[0]}?span=30d")
        page.locator("article .u-over").first.wait_for()
        page.wait_for_timeout(1500)
        frames = sorted(page.evaluate(ZOOM, TURNS))
    report(
        "browser: charts",
        [
            Figure("a port's first chart after a click, median", median(clicks), "ms", "below 300"),
            Figure("the slowest of 12", max(clicks), "ms"),
            Figure("frames while zooming through 30 days, median", median(frames), "ms", "below 17"),
            Figure("95 of 100 of them", frames[int(len(frames) * 0.95)], "ms"),
        ],
    )
