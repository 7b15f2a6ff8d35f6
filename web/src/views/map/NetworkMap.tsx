import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useRef } from "react";
import { Link, useNavigate } from "react-router";
import { client, got } from "../../api/client";
import { figuresQuery, mapQuery, tunnelsQuery, wayQuery } from "../../api/topologyQueries";
import { useKeys } from "../../app/keys";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { backgroundUrl } from "./Background";
import { MapCanvas, type MapHandle } from "./MapCanvas";
import { MapFoot } from "./MapFoot";
import { MapPanel, sizeOf } from "./MapPanel";
import { MapTable } from "./MapTable";
import { MapTools, useMapShow } from "./MapTools";
import { MapTunnels } from "./MapTunnels";
import { along, around, type Hit, leaves, linkKey, type Node, type Point } from "./mapGeometry";
import type { Tunnel } from "./tunnels";

const NO_TUNNELS: Tunnel[] = [];

/** What hangs on what: sites, the devices of one, or all of them, with what their links carry at the time shown. */
export function NetworkMap() {
  const time = useScreenTime();
  const search = useTimeSearch();
  const navigate = useNavigate();
  const set = useSetSearch();
  const may = useMay();
  const queries = useQueryClient();
  const show = useMapShow();
  const handle = useRef<MapHandle>(null);
  const query = mapQuery(time.at, show.site, show.devices, show.part);
  const { data, error } = useQuery({ ...query, placeholderData: keepPreviousData });

  const { nodes, links } = useMemo(() => {
    const hidden = data && !show.leaves ? leaves(data.links) : new Set<string>();
    const all = data?.links.filter(({ a, b }) => !hidden.has(a.node) && !hidden.has(b.node)) ?? [];
    const near = show.depth && show.pick.match(/^\w+-\d+$/) ? around(all, show.pick, show.depth) : null;
    const isShown = (key: string) => !hidden.has(key) && (!near || near.has(key));
    return {
      nodes: data?.nodes.filter((node) => isShown(node.key)) ?? [],
      links: all.filter(({ a, b }) => isShown(a.node) && isShown(b.node)),
    };
  }, [data, show.leaves, show.depth, show.pick]);

  const node = nodes.find((each) => each.key === show.pick);
  const place = node ? -1 : links.findIndex((each) => linkKey(each) === show.pick);
  const link = links[place];
  const { data: ways } = useQuery({
    ...wayQuery(show.start, show.goal, time.at),
    enabled: Boolean(show.start && show.goal),
  });
  const lit = useMemo(() => {
    const way = ways?.ways[0];
    if (!node && show.goal && way?.length) return along(links, way);
    if (!node) return null;
    const its = new Set(
      links.flatMap(({ a, b }, index) => (a.node === node.key || b.node === node.key ? [index] : [])),
    );
    const ends = [...its].flatMap((index) => [links[index]?.a.node ?? "", links[index]?.b.node ?? ""]);
    return { nodes: new Set([node.key, ...ends]), links: its };
  }, [node, links, ways, show.goal]);

  const { data: known } = useQuery({ ...tunnelsQuery, enabled: show.tunnels && time.following });
  const tunnels = (show.tunnels && time.following && known) || NO_TUNNELS;

  const { data: figures } = useQuery({ ...figuresQuery(show.pins, time.at), enabled: show.pins.length > 0 });
  const pinned = useMemo(
    () => new Map((show.pins.length ? figures : [])?.map((each) => [`device-${each.device_id}`, each.figures])),
    [figures, show.pins.length],
  );

  const background = data?.background
    ? { ...data.background, url: backgroundUrl(data.map, data.background.version) }
    : null;

  const changed = () => void queries.invalidateQueries({ queryKey: ["map"] });
  const move = useMutation({
    mutationFn: ({ key, to }: { key: string; to: Point }) =>
      got(
        client.PUT("/api/v1/map/own", {
          body: { map: data?.map ?? "", spots: [{ node: key, x: Math.round(to.x), y: Math.round(to.y) }] },
        }),
      ),
    onMutate: ({ key, to }) =>
      queries.setQueryData(
        query.queryKey,
        (before) =>
          before && { ...before, nodes: before.nodes.map((each) => (each.key === key ? { ...each, ...to } : each)) },
      ),
    onSettled: changed,
  });
  const remove = useMutation({
    mutationFn: (entered: number) =>
      got(client.DELETE("/api/v1/links/{link}", { params: { path: { link: entered } } })),
    onSuccess: () => {
      set({ pick: "" });
      changed();
    },
  });

  const pick = (hit: Hit | null) => {
    const picked = hit?.link === undefined ? undefined : links[hit.link];
    set({ pick: hit?.node ?? (picked ? linkKey(picked) : "") });
  };
  const open = (each: Node) => {
    if (each.kind === "site") set({ site: each.name, show: "", pick: "" });
    else if (each.kind === "access points") navigate(`/fleet${search({ list: "wireless" })}`);
    else if (each.kind === "device") navigate(`/fleet/device/${each.key.split("-")[1]}${search({ site: each.site })}`);
  };
  const found = (each: Node) => {
    set({ pick: each.key });
    handle.current?.show(each);
  };
  useKeys({
    f: () => document.querySelector<HTMLInputElement>("[aria-label='Find on the map']")?.focus(),
    Escape: () => (show.pick ? set({ pick: "" }) : set(show.goal ? { start: "", goal: "" } : { site: "", show: "" })),
  });
  if (!data) return <Problem error={error} />;
  const name = show.site || (show.devices ? "All devices" : "Whole network");
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_330px] max-lg:h-auto max-lg:grid-cols-[minmax(0,1fr)]">
      <section aria-label="Map" className="grid min-h-0 grid-rows-[auto_minmax(0,1fr)_auto] max-lg:h-[70vh]">
        <div className="px-4 pt-2">
          <h1 className="flex flex-wrap items-baseline gap-x-2 text-large font-semibold">
            {name}{" "}
            <span className="text-body font-normal text-ink2">
              {sizeOf(data)}
              {!time.following && `, as at ${moment(time.end)}`}
            </span>
          </h1>
          <MapTools nodes={nodes} onFound={found} />
          <Problem error={error ?? move.error ?? remove.error} />
        </div>
        <div className="relative min-h-0">
          {show.table ? (
            <MapTable links={links} onPick={(key) => set({ pick: key })} />
          ) : (
            <MapCanvas
              handle={handle}
              label={`Map of ${name.toLowerCase()}: ${sizeOf(data)}; arrow keys go from card to card`}
              name={`${data.map} ${show.depth ? show.pick : ""} ${show.leaves}`}
              nodes={nodes}
              links={links}
              by={show.by}
              lit={lit}
              pickedNode={node?.key ?? null}
              pinned={pinned}
              tunnels={tunnels}
              background={background}
              pickedLink={place < 0 ? null : place}
              canMove={show.arranging}
              onPick={pick}
              onOpen={open}
              onMove={(key, to) => move.mutate({ key, to })}
            />
          )}
          {data.links.length === 0 && (
            <p className="absolute top-2 left-4 text-ink2">
              No links are known between these. Devices tell of their neighbours by LLDP;{" "}
              <Link className="underline" to={`/fleet${search({ list: "links" })}`}>
                enter links by hand
              </Link>{" "}
              where they do not.
            </p>
          )}
        </div>
        <MapFoot
          map={data}
          picture={{ nodes, links, pinned, tunnels, background, by: show.by, title: `${name}, ${moment(time.end)}` }}
          handle={handle}
        />
      </section>
      <aside
        className="min-h-0 overflow-auto border-l border-rule px-4 py-3 max-lg:border-l-0"
        aria-label="Beside the map"
      >
        {show.tunnels && time.following && known && <MapTunnels tunnels={known} nodes={nodes} picked={node} />}
        {show.tunnels && !time.following && (
          <p className="mb-3 text-ink2">Tunnels are known as they are now; follow now to see them.</p>
        )}
        <MapPanel
          map={data}
          node={node}
          link={link}
          onPick={(key) => set({ pick: key })}
          onOpen={open}
          onRemove={may("engineer", true) && time.following ? (entered) => remove.mutate(entered) : null}
        />
      </aside>
    </div>
  );
}
