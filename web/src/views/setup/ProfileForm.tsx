import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { pollingLoadQuery, profileDevicesQuery, profilesQuery } from "../../api/setupQueries";
import { Choice, Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useTyped } from "../../components/useTyped";
import { ConditionField } from "./ConditionField";
import { ExtraObjects } from "./ExtraObjects";
import { LastGasps, NO_WIRELESS, OwnNeighbours, OwnRestart, OwnWireless } from "./OwnTables";
import { useKeeping } from "./useKeeping";

type Profiles = Schemas["ProfilesOut"];
type Profile = Profiles["rows"][0];
type Props = { stored?: Profile; profiles: Profiles; onDone: () => void };

/** Making a profile, or changing one: for later devices, or for all that have it. */
export function ProfileForm({ stored, profiles, onDone }: Props) {
  const [profile, setProfile] = useState({
    name: stored?.name ?? "",
    kind: stored?.kind ?? "other",
    prefixes: stored?.prefixes.join("\n") ?? "",
    condition: stored?.condition ?? "",
    tables: stored?.tables ?? profiles.tables.map((table) => table.name),
    objects: stored?.objects ?? [],
    interval: stored?.interval_s ? String(stored.interval_s) : "",
    label_template: stored?.label_template ?? "",
    neighbour_table: stored?.neighbour_table ?? { name: "", port: "", address: "", if_index_at: 1 },
    wireless_tables: stored?.wireless_tables ?? NO_WIRELESS,
    last_gasps: stored?.last_gasps ?? [],
    restart: stored?.restart ?? { oid: "", value: 1 },
  });
  const [forAll, setForAll] = useState<boolean | null>(null);
  const { interval, ...rest } = profile;
  const draft = {
    ...rest,
    prefixes: profile.prefixes.split(/\s+/).filter(Boolean),
    interval_s: interval ? Number(interval) : null,
  };
  const tried = useTyped(JSON.stringify({ name: "tried", prefixes: draft.prefixes, condition: draft.condition }));
  const { data: fitting, error: wrong } = useQuery({
    queryKey: ["profiles", "fitting", tried],
    queryFn: () => got(client.POST("/api/v1/profiles/fitting", { body: JSON.parse(tried) })),
    retry: false,
    gcTime: 0,
  });
  const { submit, foot } = useKeeping({
    listed: profilesQuery.queryKey,
    save: () => {
      if (!stored) return got(client.POST("/api/v1/profiles", { body: draft }));
      return got(
        client.PUT("/api/v1/profiles/{profile}", {
          params: { path: { profile: stored.id } },
          body: { ...draft, edition: stored.edition, for_all: forAll ?? false },
        }),
      );
    },
    remove:
      stored && (() => got(client.DELETE("/api/v1/profiles/{profile}", { params: { path: { profile: stored.id } } }))),
    onDone,
  });
  const asks = stored !== undefined && stored.devices > 0;
  const set = (name: keyof typeof profile) => (event: { target: { value: string } }) =>
    setProfile({ ...profile, [name]: event.target.value });
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "A new profile"}</h2>
      <Field label="Name" required maxLength={80} value={profile.name} onChange={set("name")} />
      <Choice label="Kind" options={profiles.kinds} value={profile.kind} onChange={set("kind")} />
      <Labelled label="sysObjectID prefixes" hint="one prefix a line" wide>
        <textarea
          className="field figures"
          rows={2}
          spellCheck={false}
          placeholder="1.3.6.1.4.1.32473.1"
          value={profile.prefixes}
          onChange={set("prefixes")}
        />
      </Labelled>
      <ConditionField
        value={profile.condition}
        onChange={(condition) => setProfile({ ...profile, condition })}
        fields={profiles.fields}
        example={'sys_descr like "*switch*"'}
        problem={wrong?.message}
      />
      {fitting && (
        <p className="col-span-2" aria-live="polite" title={fitting.rows.map((row) => row.name).join(", ")}>
          Fits <b className="font-semibold">{fitting.total}</b> of {fitting.of} devices
          {fitting.rows.length > 0 && (
            <span className="text-ink2">
              :{" "}
              {fitting.rows
                .slice(0, 4)
                .map((row) => row.name)
                .join(", ")}
              {fitting.total > 4 && " …"}
            </span>
          )}
        </p>
      )}
      <fieldset className="col-span-2">
        <legend>Standard tables that are read</legend>
        {profiles.tables.map((table) => (
          <label key={table.name} className="flex min-h-6 gap-2">
            <input
              type="checkbox"
              checked={profile.tables.includes(table.name)}
              onChange={(event) =>
                setProfile({
                  ...profile,
                  tables: event.target.checked
                    ? [...profile.tables, table.name]
                    : profile.tables.filter((name) => name !== table.name),
                })
              }
            />
            <span>
              {table.name} <span className="text-tiny text-ink2">{table.meaning}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <ExtraObjects
        objects={profile.objects}
        kinds={profiles.own_kinds}
        onChange={(objects) => setProfile({ ...profile, objects })}
      />
      <Field
        label="Interval (s)"
        hint="empty: 60"
        type="number"
        min={10}
        max={86400}
        value={profile.interval}
        onChange={set("interval")}
      />
      <Field
        label="Port labels"
        hint="a template"
        placeholder="{alias|name}"
        maxLength={120}
        value={profile.label_template}
        onChange={set("label_template")}
      />
      <OwnNeighbours
        table={profile.neighbour_table}
        onChange={(neighbour_table) => setProfile({ ...profile, neighbour_table })}
      />
      <OwnWireless
        tables={profile.wireless_tables}
        onChange={(wireless_tables) => setProfile({ ...profile, wireless_tables })}
      />
      <LastGasps oids={profile.last_gasps} onChange={(last_gasps) => setProfile({ ...profile, last_gasps })} />
      <OwnRestart restart={profile.restart} onChange={(restart) => setProfile({ ...profile, restart })} />
      <Cost devices={stored?.devices ?? 0} before={stored?.interval_s ?? 60} after={Number(interval) || 60} />
      {asks && <Whom profile={stored} forAll={forAll} onChoose={setForAll} />}
      <FormFoot {...foot} isBusy={foot.isBusy || (asks && forAll === null)} />
    </form>
  );
}

/** What another interval would cost, if all devices of the profile took it. */
function Cost({ devices, before, after }: { devices: number; before: number; after: number }) {
  const { data: load } = useQuery(pollingLoadQuery);
  if (!devices || before === after) return null;
  return (
    <p className="col-span-2 text-ink2">
      For all its {devices} devices that is {((100 * before) / after).toFixed(0)} % of the requests that they take now
      {load && `; the collector sends ${load.requests_per_s.toFixed(1)} a second in all`}
      {load?.ms_per_request && `, which takes ${((load.requests_per_s * load.ms_per_request) / 10).toFixed(1)} % of it`}
      .
    </p>
  );
}

type WhomProps = { profile: Profile; forAll: boolean | null; onChoose: (forAll: boolean) => void };

/** A change asks for whom it holds, with the list of those who have the profile. */
function Whom({ profile, forAll, onChoose }: WhomProps) {
  const { data } = useQuery(profileDevicesQuery(profile.id));
  return (
    <fieldset className="col-span-2">
      <legend className="font-semibold">Apply to</legend>
      <label className="flex min-h-6 gap-2">
        <input type="radio" name="whom" checked={forAll === false} onChange={() => onChoose(false)} />
        only for devices added from now on
      </label>
      <label className="flex min-h-6 gap-2">
        <input type="radio" name="whom" checked={forAll === true} onChange={() => onChoose(true)} />
        for all {profile.devices} that have it
      </label>
      <p className="max-h-24 overflow-auto text-small text-ink2">{data?.rows.map((row) => row.name).join(", ")}</p>
    </fieldset>
  );
}
