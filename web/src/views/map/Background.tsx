import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ChangeEvent, useState } from "react";
import { client, got } from "../../api/client";
import { Problem } from "../../components/Problem";
import { type Area, extent, type NetworkMap } from "./mapGeometry";

/** Where the picture beneath a map comes from. */
export const backgroundUrl = (map: string, version: string) =>
  `/api/v1/map/background?map=${encodeURIComponent(map)}&version=${encodeURIComponent(version)}`;

/** The picture as the server takes it, with its size. */
async function read(file: File): Promise<{ picture: string; width: number; height: number }> {
  const url = await new Promise<string>((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve(String(reader.result));
    reader.onerror = () => reject(new Error(`${file.name} could not be read.`));
    reader.readAsDataURL(file);
  });
  const image = new Image();
  image.src = url;
  await image.decode().catch(() => {
    throw new Error(`${file.name} is no picture that can be shown: choose a PNG or JPEG.`);
  });
  return { picture: url.slice(url.indexOf(",") + 1), width: image.naturalWidth, height: image.naturalHeight };
}

/** The largest area of a picture's shape that covers some cards. */
export function covering(cards: Area, width: number, height: number): Area {
  const scale = Math.max(cards.width / width, cards.height / height);
  return {
    x: cards.x + (cards.width - width * scale) / 2,
    y: cards.y + (cards.height - height * scale) / 2,
    width: width * scale,
    height: height * scale,
  };
}

const STEP = 0.04;
const MOVES: [string, (area: Area) => Area][] = [
  ["left", (area) => ({ ...area, x: area.x - STEP * area.width })],
  ["right", (area) => ({ ...area, x: area.x + STEP * area.width })],
  ["up", (area) => ({ ...area, y: area.y - STEP * area.height })],
  ["down", (area) => ({ ...area, y: area.y + STEP * area.height })],
  ["larger", (area) => grown(area, 1.1)],
  ["smaller", (area) => grown(area, 1 / 1.1)],
];

/** An area by so much larger, about its middle. */
export const grown = ({ x, y, width, height }: Area, by: number): Area => ({
  x: x + (width * (1 - by)) / 2,
  y: y + (height * (1 - by)) / 2,
  width: width * by,
  height: height * by,
});

/** Lays a floor plan or a region beneath a map for everybody, moves it, or takes it away. */
export function BackgroundTools({ map }: { map: NetworkMap }) {
  const queries = useQueryClient();
  const [wrong, setWrong] = useState("");
  const onSuccess = () => void queries.invalidateQueries({ queryKey: ["map"] });
  const keep = useMutation({
    mutationFn: (body: Area & { picture?: string }) =>
      got(client.PUT("/api/v1/map/background", { body: { map: map.map, ...body } })),
    onSuccess,
  });
  const remove = useMutation({
    mutationFn: () => got(client.DELETE("/api/v1/map/background", { params: { query: { map: map.map } } })),
    onSuccess,
  });
  const choose = async (event: ChangeEvent<HTMLInputElement>) => {
    const file = event.target.files?.[0];
    if (!file) return;
    setWrong("");
    try {
      const { picture, width, height } = await read(file);
      keep.mutate({ picture, ...covering(extent(map.nodes), width, height) });
    } catch (error) {
      setWrong(error instanceof Error ? error.message : String(error));
    }
  };
  const { background } = map;
  return (
    <>
      <label className="flex min-h-6 cursor-pointer items-center underline">
        background …
        <input type="file" accept="image/png,image/jpeg" className="sr-only" onChange={(event) => void choose(event)} />
      </label>
      {background && (
        <>
          {MOVES.map(([words, moved]) => (
            <button
              key={words}
              type="button"
              className="min-h-6 min-w-6 underline"
              aria-label={`Background ${words}`}
              onClick={() => {
                const { x, y, width, height } = background;
                keep.mutate(moved({ x, y, width, height }));
              }}
            >
              {words}
            </button>
          ))}
          <button type="button" className="min-h-6 underline" onClick={() => remove.mutate()}>
            without background
          </button>
        </>
      )}
      {wrong && (
        <span role="alert" className="text-critical">
          {wrong}
        </span>
      )}
      <Problem error={keep.error ?? remove.error} />
    </>
  );
}
