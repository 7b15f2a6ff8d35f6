import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { nowQuery } from "../../api/queries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { counted, duration, moment, percent, perSecond, rate, text } from "../../components/format";
import { LoadBar } from "../../components/LoadBar";
import { Severity } from "../../components/Severity";
import { PortActions } from "../fleet/PortActions";
import { FigureWords, PinFigures } from "./DeviceFigures";
import { Impact } from "./Impact";
import { EVIDENCE, endsOf, laneWords, nodeWords, STATES } from "./MapHover";
import { useMapShow } from "./MapTools";
import { linkKey, type MapLink, type NetworkMap, type Node } from "./mapGeometry";
import { Way, WayForm } from "./Way";

type Props = {
  map: NetworkMap;
  node: Node | undefined;
  link: MapLink | undefined;
  onPick: (key: string) => void;
  onOpen: (node: Node) => void;
  onRemove: ((entered: number) => void) | null;
};

/** What stands beside the map: the card or the link that was picked, or what is wrong. */
export function MapPanel({ map, node, link, onPick, onOpen, onRemove }: Props) {
  const { start, goal } = useMapShow();
  if (start && goal && !node && !link) return <Way />;
  if (link) return <OfLink link={link} onRemove={onRemove} />;
  if (node) return <OfNode node={node} map={map} onPick={onPick} onOpen={onOpen} />;
  return <Wrong map={map} onPick={onPick} />;
}

function Wrong({ map, onPick }: { map: NetworkMap; onPick: (key: string) => void }) {
  const time = useScreenTime();
  const { site } = useMapShow();
  const { data } = useQuery(nowQuery(time.at));
  const causes = data?.causes.filter(({ row }) => !site || row.site === site) ?? [];
  const down = map.links.filter((link) => link.state === "down" || link.state === "silent");
  const contradicted = map.links.filter((link) => link.contradiction);
  return (
    <>
      <p className="text-large leading-snug">
        {data && (
          <>
            <b className="font-semibold">{data.headline.strong}</b>
            {data.headline.rest}
          </>
        )}
      </p>
      <h2 className="heading mt-3">
        Active alarms <span className="font-normal text-ink2">{site ? `at ${site}` : data?.active || ""}</span>
      </h2>
      {data && causes.length === 0 && <p className="py-1 text-ink2">No active alarms{site && " here"}.</p>}
      <AlarmLines causes={causes.slice(0, 8)} at={data?.at ?? ""} />
      <LinkLines title="Links that are down" links={down} onPick={onPick} />
      <LinkLines title="Links with a contradiction" links={contradicted} onPick={onPick} />
      <Busiest links={map.links} onPick={onPick} />
      <h2 className="heading mt-3">The way between two ends</h2>
      <WayForm />
    </>
  );
}

function AlarmLines({ causes, at }: { causes: Schemas["CauseOut"][]; at: string }) {
  const search = useTimeSearch();
  return (
    <>
      {causes.map(({ row }) => (
        <Link
          key={row.id}
          to={`/alarms/${row.id}${search()}`}
          data-row
          className="grid grid-cols-[18px_minmax(0,1fr)_auto] gap-1.5 border-b border-dotted border-rule py-[3px] hover:bg-lampsoft"
        >
          <Severity level={row.severity} />
          <span className="min-w-0">
            <b className="block truncate font-medium">{row.label}</b>
            <span className="block truncate text-small text-ink2">
              {row.consequences > 0 && (
                <b className="font-medium text-ink">{counted(row.consequences, "consequence")} · </b>
              )}
              {row.text}
            </span>
          </span>
          <span className="figures text-small text-ink2">
            {duration((Date.parse(at) - Date.parse(row.raised_at)) / 1000)}
          </span>
        </Link>
      ))}
    </>
  );
}

const SHORT = { down: "down", silent: "no answer", unknown: "–" };
const loadOf = (link: MapLink) => Math.max(link.there.percent ?? -1, link.back.percent ?? -1);

function Busiest({ links, onPick }: { links: MapLink[]; onPick: (key: string) => void }) {
  const busy = links
    .filter((link) => link.state === "up" && loadOf(link) >= 0)
    .toSorted((one, other) => loadOf(other) - loadOf(one))
    .slice(0, 6);
  return <LinkLines title="Busiest links" links={busy} onPick={onPick} />;
}

function LinkLines({ title, links, onPick }: { title: string; links: MapLink[]; onPick: (key: string) => void }) {
  if (!links.length) return null;
  return (
    <>
      <h2 className="heading mt-3">
        {title} <span className="font-normal text-ink2">{links.length}</span>
      </h2>
      <ul>
        {links.slice(0, 12).map((link) => (
          <li key={linkKey(link)}>
            <LinkLine link={link} words={endsOf(link)} onPick={onPick} />
          </li>
        ))}
      </ul>
    </>
  );
}

function LinkLine({ link, words, onPick }: { link: MapLink; words: string; onPick: (key: string) => void }) {
  return (
    <button
      type="button"
      data-row
      onClick={() => onPick(linkKey(link))}
      className="figures grid w-full grid-cols-[minmax(0,1fr)_56px_66px] items-center gap-2 border-b border-dotted border-rule py-[3px] text-left hover:bg-lampsoft"
    >
      <span className="truncate" title={words}>
        {words}
      </span>
      <LoadBar inPercent={link.back.percent} outPercent={link.there.percent} down={link.state !== "up"} />
      <span className="text-right whitespace-nowrap">
        {link.state === "up" ? `${percent(loadOf(link) < 0 ? null : loadOf(link))} %` : SHORT[link.state]}
      </span>
    </button>
  );
}

const isAbout = (row: Schemas["AlarmRow"], { kind, key, name }: Node) =>
  kind === "site" ? row.site === name : kind === "device" && key === `device-${row.device_id}`;

function OfNode({
  node,
  map,
  onPick,
  onOpen,
}: {
  node: Node;
  map: NetworkMap;
  onPick: (key: string) => void;
  onOpen: (node: Node) => void;
}) {
  const search = useTimeSearch();
  const set = useSetSearch();
  const time = useScreenTime();
  const { data: now } = useQuery(nowQuery(time.at));
  const mine = now?.causes.filter(({ row }) => isAbout(row, node)) ?? [];
  const links = map.links.filter(({ a, b }) => a.node === node.key || b.node === node.key);
  const number = node.key.split("-")[1];
  return (
    <>
      <h2 className="flex items-center gap-1.5 text-title tracking-tight">
        {node.severity > 0 && <Severity level={node.severity} />}
        {node.name}
      </h2>
      <p className="text-ink2">{nodeWords(node)}</p>
      <p className="mt-1 flex flex-wrap gap-x-3">
        {node.kind === "site" && (
          <button type="button" className="underline" onClick={() => onOpen(node)}>
            inside this site
          </button>
        )}
        {node.kind === "site" && (
          <Link className="underline" to={`/fleet${search({ site: node.name })}`}>
            its ports
          </Link>
        )}
        {node.kind === "device" && (
          <Link className="underline" to={`/fleet/device/${number}${search({ site: node.site })}`}>
            device
          </Link>
        )}
        {node.kind === "device" && (
          <button type="button" className="underline" onClick={() => set({ start: node.name, goal: "", pick: "" })}>
            way from here
          </button>
        )}
        {node.kind === "device" && <PinFigures device={Number(number)} />}
        {node.kind === "transport" && (
          <Link className="underline" to={`/fleet${search({ group: number })}`}>
            its ports
          </Link>
        )}
        {node.kind === "access points" && (
          <Link className="underline" to={`/fleet${search({ list: "wireless" })}`}>
            access points and clients
          </Link>
        )}
      </p>
      {node.kind === "device" && <FigureWords device={Number(number)} />}
      {mine.length > 0 && <h3 className="heading mt-3">Active alarms</h3>}
      <AlarmLines causes={mine} at={now?.at ?? ""} />
      {node.kind !== "access points" && <Impact question={{ node: node.key }} />}
      <h3 className="heading mt-3">
        Links <span className="font-normal text-ink2">{links.length}, out and in</span>
      </h3>
      {links.length === 0 && <p className="py-1 text-ink2">No links are known.</p>}
      <ul>
        {links.slice(0, 60).map((link) => {
          const isA = link.a.node === node.key;
          const [here, there] = isA ? [link.a, link.b] : [link.b, link.a];
          const turned = isA ? link : { ...link, there: link.back, back: link.there };
          return (
            <li key={linkKey(link)}>
              <LinkLine
                link={turned}
                words={`${node.kind === "site" ? `${here.device} ` : ""}${here.name} – ${there.device} ${there.name}`}
                onPick={() => onPick(linkKey(link))}
              />
            </li>
          );
        })}
      </ul>
    </>
  );
}

function OfLink({ link, onRemove }: { link: MapLink; onRemove: Props["onRemove"] }) {
  const port = link.a.interface_id ?? link.b.interface_id;
  const time = useScreenTime();
  const may = useMay();
  return (
    <>
      <h2 className="text-large leading-snug font-semibold">{endsOf(link)}</h2>
      <p className="text-ink2">
        {[link.speed_bps ? text(rate(link.speed_bps)) : "speed not known", STATES[link.state]].join(", ")}
      </p>
      <End end={link.a} title="From" lane={`sends ${laneWords(link.there)}`} />
      <End end={link.b} title="To" lane={`sends ${laneWords(link.back)}`} />
      <h3 className="heading mt-3">Errors and discards</h3>
      <p className="py-[3px]">
        {link.error_rate === null
          ? "Not measured."
          : link.error_rate > 0
            ? `${perSecond(link.error_rate)} a second at the worse end.`
            : "None at either end."}
      </p>
      {port !== null && <Impact question={{ interface: port }} />}
      {time.following && may("engineer", true) && (
        <p className="mt-1 flex flex-wrap gap-x-3">
          {[link.a, link.b].map(
            (end) =>
              end.interface_id !== null && (
                <span key={end.interface_id}>
                  {end.device}: <PortActions port={end.interface_id} label={`${end.device} ${end.label}`} />
                </span>
              ),
          )}
        </p>
      )}
      <h3 className="heading mt-3">How this link is known</h3>
      <p className="py-[3px]">
        {EVIDENCE[link.evidence]}
        {link.entered !== null && link.evidence !== "by hand" && ", and entered by hand"}
        {link.since && `, since ${moment(new Date(link.since))}`}.
        {link.evidence === "one end" && " The other end tells nothing of this one."}
      </p>
      {link.lost_at && <p className="text-critical">Nobody sees it any more since {moment(new Date(link.lost_at))}.</p>}
      {link.contradiction && <p className="text-critical">But {link.contradiction}.</p>}
      {link.entered !== null && onRemove && (
        <p className="mt-1">
          <button type="button" className="button" onClick={() => onRemove(link.entered ?? 0)}>
            Remove the link by hand
          </button>
        </p>
      )}
    </>
  );
}

function End({ end, title, lane }: { end: MapLink["a"]; title: string; lane: string }): ReactNode {
  const search = useTimeSearch();
  return (
    <>
      <h3 className="heading mt-3">{title}</h3>
      <p className="flex items-center gap-1.5 py-[3px]">
        {end.severity > 0 && <Severity level={end.severity} size="12" />}
        {end.device_id === null ? (
          <span>
            {end.device}, {end.node.startsWith("transport") ? "a network" : "an access point"} that is not in the
            inventory
          </span>
        ) : (
          <>
            <Link className="font-medium underline" to={`/fleet/device/${end.device_id}${search()}`}>
              {end.device}
            </Link>
            {end.interface_id ? (
              <Link className="underline" to={`/fleet/port/${end.interface_id}${search()}`}>
                {end.name}
                {end.label && end.label !== end.name ? `, ${end.label}` : ""}
              </Link>
            ) : (
              <span className="text-ink2">port not known</span>
            )}
          </>
        )}
      </p>
      {end.device_id !== null && <p className="figures text-ink2">{lane}</p>}
    </>
  );
}

/** How much is on a map, in words. */
export function sizeOf(map: NetworkMap): string {
  const cards = map.nodes.filter((node) => !node.is_outside && (node.kind === "site" || node.kind === "device"));
  const points = map.nodes.reduce((sum, { kind, devices }) => sum + (kind === "access points" ? devices : 0), 0);
  const what = cards[0]?.kind === "device" ? "device" : "site";
  const parts = [counted(cards.length, what), points > 0 && counted(points, "access point")];
  return [...parts, counted(map.links.length, "link")].filter(Boolean).join(", ");
}
