import { useQuery } from "@tanstack/react-query";
import type { FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import {
  type NetworkFinding,
  networkQuestionQuery,
  pathsQuery,
  type NetworkQuestion as Told,
} from "../../api/pathQueries";
import { sitesQuery } from "../../api/queries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { useSetSearch } from "../../app/useSetSearch";
import { clock, duration, range } from "../../components/format";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { LISTS } from "./pathWords";

/** Two ends and the screen's time: one answer, with its reasons and with what could not be seen. */
export function NetworkQuestion() {
  const time = useScreenTime();
  const [search] = useSearchParams();
  const set = useSetSearch();
  const [whence, whither] = [search.get("whence") ?? "", search.get("whither") ?? ""];
  const { data, error, isFetching } = useQuery(networkQuestionQuery(whence, whither, time.range));
  const ask = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    set({ whence: String(form.get("whence")).trim(), whither: String(form.get("whither")).trim() });
  };
  return (
    <section aria-label="Was it the network?" className="h-full overflow-auto px-4 pt-2 pb-4 max-lg:h-auto">
      <h1 className="text-large font-semibold">Was it the network?</h1>
      <div className="text-small">
        <InlineToggles label="Show" value="question" options={LISTS} onChoose={(list) => set({ list })} />
      </div>
      <form
        key={`${whence} ${whither}`}
        onSubmit={ask}
        className="mt-1 grid max-w-[760px] grid-cols-[minmax(0,1fr)_minmax(0,1fr)_auto] items-end gap-2 max-md:grid-cols-1"
      >
        <Ends />
        <label className="grid gap-1">
          <span>From</span>
          <input
            name="whence"
            required
            className="field min-w-0"
            list="ends"
            defaultValue={whence}
            placeholder="Hexwater"
          />
        </label>
        <label className="grid gap-1">
          <span>To</span>
          <input
            name="whither"
            required
            className="field min-w-0"
            list="ends"
            defaultValue={whither}
            placeholder="site, device, port, address, service"
          />
        </label>
        <button type="submit" className="button">
          Look
        </button>
      </form>
      {whence && whither ? (
        <>
          <Problem error={error} />
          {data && !error && <Answered told={data} isOld={isFetching} />}
        </>
      ) : (
        <p className="max-w-[640px] py-3 text-ink2">
          Name two ends: sites, devices, ports (device and port), addresses, or a service that is probed. Everything
          that lay between them in the screen’s time is looked at: probes, loads and errors of each link, alarms,
          changes, restarts, and how long the network and the servers took for real traffic.
        </p>
      )}
    </section>
  );
}

/** Names to choose from. */
function Ends() {
  const time = useScreenTime();
  const { data: sites } = useQuery(sitesQuery);
  const { data: paths } = useQuery(pathsQuery(time.range));
  const services = (paths ?? []).filter(({ kind }) => ["tcp", "dns", "http"].includes(kind));
  return (
    <datalist id="ends">
      {[...(sites ?? []), ...services].map(({ name }) => (
        <option key={name} value={name} />
      ))}
    </datalist>
  );
}

function Answered({ told, isOld }: { told: Told; isOld: boolean }) {
  const [start, end] = [new Date(told.start), new Date(told.end)];
  return (
    <div className={isOld ? "opacity-60" : ""}>
      <p className="mt-3 text-small text-ink2">
        {told.whence} to {told.whither}, {range(start, end)}
      </p>
      <p role="status" className="max-w-[860px] text-title font-semibold tracking-tight">
        {told.sentence}
      </p>
      <div className="grid grid-cols-[minmax(0,1fr)_320px] gap-x-6 max-lg:grid-cols-[minmax(0,1fr)]">
        <div className="min-w-0">
          <h2 className="heading mt-3">
            What lay on the way <span className="font-normal text-ink2">in the order of time</span>
          </h2>
          {told.timeline.length === 0 && <p className="py-1 text-ink2">Nothing happened there.</p>}
          {told.timeline.length > 0 && <Timeline told={told} />}
        </div>
        <div>
          <List title="As usual" words={told.usual} />
          <List title="Not seen" words={told.unseen} />
          <h2 className="heading mt-3">The way</h2>
          <ol className="text-small">
            {told.hops.map((hop, place) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a way may pass a device twice
              <li key={place} className="border-b border-faint py-[3px]">
                {hop}
              </li>
            ))}
          </ol>
          {told.notes.map((note) => (
            <p key={note} className="pt-1 text-small text-ink2">
              {note}
            </p>
          ))}
        </div>
      </div>
    </div>
  );
}

function List({ title, words }: { title: string; words: string[] }) {
  if (words.length === 0) return null;
  return (
    <>
      <h2 className="heading mt-3">{title}</h2>
      <ul className="text-small">
        {words.map((each) => (
          <li key={each} className="border-b border-faint py-[3px]">
            {each}
          </li>
        ))}
      </ul>
    </>
  );
}

const SIDES: Record<NetworkFinding["side"], { words: string; token: string }> = {
  network: { words: "network", token: "--critical" },
  service: { words: "service", token: "--out" },
  neither: { words: "beside", token: "--ink2" },
};

/** Every finding as a bar within the time that is asked about. */
function Timeline({ told }: { told: Told }) {
  const [start, end] = [Date.parse(told.start), Date.parse(told.end)];
  const place = (at: string) => Math.min(100, Math.max(0, (100 * (Date.parse(at) - start)) / (end - start)));
  const search = useTimeSearch();
  return (
    <ul className="figures text-small">
      {told.timeline.map((each) => {
        const [from, to] = [place(each.start), place(each.end)];
        const { words, token } = SIDES[each.side];
        const lasted = (Date.parse(each.end) - Date.parse(each.start)) / 1000;
        return (
          <li
            key={`${each.words} ${each.start}`}
            className="grid grid-cols-[44px_minmax(90px,0.5fr)_minmax(0,1fr)] items-center gap-x-3 border-b border-faint py-[4px] max-md:grid-cols-[44px_minmax(0,1fr)]"
          >
            <span className="text-ink2">{clock(new Date(each.start))}</span>
            <span
              className="relative h-3 bg-track max-md:hidden"
              title={`${words}, ${lasted >= 60 ? duration(lasted) : "at one time"}`}
            >
              <span
                className="absolute inset-y-0 min-w-[3px]"
                style={{ left: `${Math.min(from, 99)}%`, width: `${to - from}%`, background: `var(${token})` }}
              />
            </span>
            <span className="min-w-0">
              <span className={each.weight > 0 ? "font-medium" : "text-ink2"}>
                {each.page ? (
                  <Link className="hover:underline" to={each.page.includes("?") ? each.page : each.page + search()}>
                    {each.words}
                  </Link>
                ) : (
                  each.words
                )}
              </span>{" "}
              <span className="text-ink2">{each.side === "neither" ? "" : words}</span>
            </span>
          </li>
        );
      })}
    </ul>
  );
}
