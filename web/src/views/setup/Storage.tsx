import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { postText } from "../../api/lines";
import { storageQuery } from "../../api/setupQueries";
import { FormFoot } from "../../components/FormFoot";
import { moment, text, volume } from "../../components/format";
import { Problem } from "../../components/Problem";

type Level = Schemas["LevelUse"];

const TELLS: Record<string, string> = {
  readings: "what was counted at each poll; the finest a chart can show",
  "five minutes": "sums, lowest and highest; charts of days and weeks",
  hours: "sums, lowest and highest; charts of months, lists and grids",
  days: "sums and all five-minute means of the day; charts of years, 95th percentiles, forecasts",
};
const FIELDS = ["readings", "five_minutes", "hours", "days"] as const;

/** For how long each level is kept, and the disk that takes; the effect shows while days are typed. */
export function Storage() {
  const { data, error } = useQuery(storageQuery);
  return (
    <div className="max-w-[880px]">
      <h1 className="text-title font-semibold tracking-tight">Storage</h1>
      <p className="mb-2 max-w-[640px] text-ink2">
        Every reading is summed up over five minutes, hours and days, exactly. Fine ones are kept for a while, coarse
        ones for years. What is older than is set here is dropped within the hour.
      </p>
      <Problem error={error} />
      {data && <StorageForm key={data.edition} storage={data} />}
      <TakeReadings />
    </div>
  );
}

function StorageForm({ storage }: { storage: Schemas["StorageOut"] }) {
  const [days, setDays] = useState(() => storage.levels.map((level) => String(level.days)));
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: () => {
      const wanted = Object.fromEntries(FIELDS.map((name, place) => [name, Number(days[place])]));
      return got(
        client.PUT("/api/v1/storage", {
          body: { edition: storage.edition, ...(wanted as Record<(typeof FIELDS)[number], number>) },
        }),
      );
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["storage"] }),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate();
  };
  const full = (level: Level, place: number) => level.bytes_a_row * level.rows_a_day * (Number(days[place]) || 0);
  const total = storage.levels.reduce((sum, level, place) => sum + full(level, place), 0);
  const now = storage.levels.reduce((sum, level) => sum + level.bytes, 0);
  const shorter = storage.levels.filter((level, place) => Number(days[place]) < level.days);
  return (
    <form onSubmit={submit}>
      <table className="figures w-full text-right text-small">
        <thead className="text-ink2">
          <tr className="border-b border-rule">
            <th className="py-1 text-left font-normal">level</th>
            <th className="pl-3 font-normal">Keep (days)</th>
            <th className="pl-3 font-normal">oldest</th>
            <th className="pl-3 font-normal">rows a day</th>
            <th className="pl-3 font-normal">bytes a row</th>
            <th className="pl-3 font-normal">size now</th>
            <th className="pl-3 font-normal">predicted</th>
          </tr>
        </thead>
        <tbody>
          {storage.levels.map((level, place) => (
            <tr key={level.level} className="border-b border-faint">
              <th scope="row" className="py-1.5 text-left font-medium">
                {level.level}
                <span className="block font-normal text-ink2">{TELLS[level.level]}</span>
              </th>
              <td className="pl-3">
                <input
                  aria-label={`Days that ${level.level} are kept`}
                  inputMode="numeric"
                  className="field w-20 text-right"
                  value={days[place]}
                  onChange={(event) =>
                    setDays((before) => before.map((each, other) => (other === place ? event.target.value : each)))
                  }
                />
              </td>
              <td className="pl-3 whitespace-nowrap">
                {(level.level === "days" ? level.oldest?.slice(0, 4) : level.oldest) ?? "–"}
              </td>
              <td className="pl-3">{level.rows_a_day.toLocaleString("en")}</td>
              <td className="pl-3">{Math.round(level.bytes_a_row)}</td>
              <td className="pl-3 whitespace-nowrap">{text(volume(level.bytes))}</td>
              <td className="pl-3 whitespace-nowrap">{text(volume(full(level, place)))}</td>
            </tr>
          ))}
          <tr>
            <th scope="row" className="py-1.5 text-left font-medium" colSpan={5}>
              together
            </th>
            <td className="pl-3">{text(volume(now))}</td>
            <td className="pl-3">
              <b className="font-semibold">{text(volume(total))}</b>
            </td>
          </tr>
        </tbody>
      </table>
      <p className="mb-2 text-ink2">
        {shorter.length > 0 ? (
          <b className="font-medium text-critical">
            Saved, {shorter.map((level) => level.level).join(" and ")} older than that will be dropped, and cannot be
            brought back.
          </b>
        ) : (
          `Computed for today's ports and intervals.${storage.changed_by ? ` Changed by ${storage.changed_by}, ${moment(new Date(storage.changed_at))}.` : ""}`
        )}
      </p>
      <FormFoot problem={save.error?.message} isBusy={save.isPending} />
    </form>
  );
}

/** Readings from a file, in the form that they are exported in. */
function TakeReadings() {
  const queries = useQueryClient();
  const take = useMutation({
    mutationFn: async (file: File) => postText<Schemas["Taken"]>("import/readings", await file.text()),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <section className="mt-6 max-w-[640px]">
      <h2 className="heading">Readings from a file</h2>
      <p className="py-1.5 text-ink2">
        A CSV as it is exported of a port with its readings: device, interface, at, elapsed_ms, what was counted, flags,
        oper. All of it is taken or nothing; what is there for the same port and time is replaced.
      </p>
      <input
        type="file"
        accept=".csv,text/csv"
        aria-label="A CSV file with readings"
        disabled={take.isPending}
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) take.mutate(file);
          event.target.value = "";
        }}
      />
      <p role="alert" className={take.error ? "text-critical" : ""}>
        {take.error?.message}
        {take.data &&
          `${take.data.readings.toLocaleString("en")} readings of ${take.data.interfaces.toLocaleString("en")} ports taken. Their sums follow within a minute.`}
      </p>
    </section>
  );
}
