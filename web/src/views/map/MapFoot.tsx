import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type RefObject, useEffect, useState } from "react";
import { client, got } from "../../api/client";
import { useMay } from "../../app/session";
import { Problem } from "../../components/Problem";
import { LOAD_STEPS } from "../../components/ramp";
import { BackgroundTools } from "./Background";
import { ERROR_RATE_STEPS } from "./drawMap";
import type { MapHandle } from "./MapCanvas";
import { useMapShow } from "./MapTools";
import { asPng, asSvg, type Picture, save, withPicture } from "./mapFile";
import type { NetworkMap } from "./mapGeometry";

type Props = { map: NetworkMap; picture: Picture; handle: RefObject<MapHandle | null> };

/** What colours and lines mean; zoom; the map as a file; whose arrangement it is. */
export function MapFoot({ map, picture, handle }: Props) {
  const show = useMapShow();
  const steps = show.by === "errors" ? ERROR_RATE_STEPS : LOAD_STEPS;
  const [printed, setPrinted] = useState("");
  useEffect(() => {
    if (!printed) return;
    const done = () => setPrinted("");
    addEventListener("afterprint", done);
    // The picture has to be there before the page is printed.
    const timer = setTimeout(() => print(), 200);
    return () => {
      clearTimeout(timer);
      removeEventListener("afterprint", done);
    };
  }, [printed]);
  const file = `map-${map.map}`;
  const act = "min-h-6 min-w-6 text-ink2 underline hover:text-ink";
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1 px-4 py-1.5 text-tiny text-ink2">
      {show.by !== "state" &&
        steps.map((words, step) => (
          <span key={words}>
            <i className="mr-1 inline-block h-2 w-4" style={{ background: `var(--load${step})` }} />
            {words}
          </span>
        ))}
      <span>
        <i className="mr-1 inline-block w-5 border-t-2 border-dotted border-ink3 align-middle" />
        down
      </span>
      <span>
        <i className="mr-1 inline-block w-5 border-t-2 border-dashed border-(--hatch) align-middle" />
        no answer
      </span>
      {show.tunnels && (
        <>
          <span>
            <i className="mr-1 inline-block w-5 border-ink border-t align-middle" />
            tunnel
          </span>
          <span>
            <i className="mr-1 inline-block w-5 border-critical border-t-2 border-dashed align-middle" />
            tunnel that is down
          </span>
        </>
      )}
      <span>two lanes a link, one each way</span>
      <span className="ml-auto flex flex-wrap items-center gap-x-2.5">
        {show.arranging && <Arrangement map={map} />}
        {!show.table && (
          <>
            <button type="button" className={act} aria-label="Zoom in" onClick={() => handle.current?.zoomBy(1.4)}>
              in
            </button>
            <button type="button" className={act} aria-label="Zoom out" onClick={() => handle.current?.zoomBy(1 / 1.4)}>
              out
            </button>
            <button type="button" className={act} onClick={() => handle.current?.fit()}>
              fit
            </button>
          </>
        )}
        <button
          type="button"
          className={act}
          onClick={() =>
            void withPicture(picture).then((whole) =>
              save(new Blob([asSvg(whole)], { type: "image/svg+xml" }), `${file}.svg`),
            )
          }
        >
          SVG
        </button>
        <button
          type="button"
          className={act}
          onClick={() =>
            void withPicture(picture)
              .then(asPng)
              .then((blob) => save(blob, `${file}.png`))
          }
        >
          PNG
        </button>
        <button
          type="button"
          className={act}
          onClick={() => void withPicture(picture).then((whole) => setPrinted(asSvg(whole)))}
        >
          print
        </button>
      </span>
      {printed && (
        <img
          className="print-alone"
          alt={picture.title}
          src={`data:image/svg+xml;charset=utf-8,${encodeURIComponent(printed)}`}
        />
      )}
    </div>
  );
}

/** Cards that were moved: given to everybody, or forgotten. */
function Arrangement({ map }: { map: NetworkMap }) {
  const may = useMay();
  const queries = useQueryClient();
  const onSuccess = () => void queries.invalidateQueries({ queryKey: ["map"] });
  const share = useMutation({
    mutationFn: () => {
      const spots = map.nodes.map(({ key, x, y }) => ({ node: key, x, y }));
      return got(client.PUT("/api/v1/map/shared", { body: { map: map.map, spots } }));
    },
    onSuccess,
  });
  const forget = useMutation({
    mutationFn: () => got(client.DELETE("/api/v1/map/own", { params: { query: { map: map.map } } })),
    onSuccess,
  });
  const anew = useMutation({
    mutationFn: async () => {
      await got(client.DELETE("/api/v1/map/own", { params: { query: { map: map.map } } }));
      return got(client.DELETE("/api/v1/map/shared", { params: { query: { map: map.map } } }));
    },
    onSuccess,
  });
  const act = "min-h-6 min-w-6 text-ink2 underline hover:text-ink";
  return (
    <>
      <Problem error={share.error ?? forget.error ?? anew.error} />
      <span>drag cards</span>
      <button type="button" className={act} onClick={() => forget.mutate()}>
        forget mine
      </button>
      {may("engineer", true) && (
        <>
          <button type="button" className={act} onClick={() => share.mutate()}>
            keep for everybody
          </button>
          <button type="button" className={act} onClick={() => anew.mutate()}>
            lay out anew
          </button>
          <BackgroundTools map={map} />
        </>
      )}
    </>
  );
}
