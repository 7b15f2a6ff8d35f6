import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { rulesQuery } from "../../api/queries";
import { Field } from "../../components/Field";
import { SEVERITIES } from "../../components/severities";

type Rule = Schemas["RuleOut"];
type Level = Schemas["LevelIO"];
type Draft = { key: number; severity: number; limit: string; clear: string };

const MOST = 5;

/** A rule to change: its levels, for how long a limit must be exceeded, and who is notified. */
export function RuleForm({ rule, onDone }: { rule: Rule; onDone: () => void }) {
  const queries = useQueryClient();
  const factor = rule.unit === "bit/s" ? 1e6 : 1;
  const [levels, setLevels] = useState<Draft[]>(() => rule.levels.map((level, key) => draft(level, key, factor)));
  const hasLimits = rule.measure !== "lumtar" && rule.measure !== "unanswered";
  const save = useMutation({
    mutationFn: (form: FormData) => {
      const number = (name: string) => Number(form.get(name));
      const body: Schemas["RuleChange"] = {
        enabled: form.get("enabled") === "on",
        mail_to: String(form.get("mail_to"))
          .split(/[\s,;]+/)
          .filter(Boolean),
      };
      if (rule.measure !== "lumtar") {
        const minutes = number("minutes");
        body.hold_s = Math.round(minutes * 60);
        body.times = minutes ? 1 : number("times");
        body.of = minutes ? 1 : number("of");
        body.levels = levels
          .map(({ severity, limit, clear }) => ({
            severity,
            limit: Number(limit) * factor,
            clear: Number(clear) * factor,
          }))
          .sort((one, other) => one.severity - other.severity);
        if (rule.subject === "interface") body.scope = String(form.get("scope"));
      }
      return got(client.PATCH("/api/v1/rules/{rule}", { params: { path: { rule: rule.id } }, body }));
    },
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: rulesQuery.queryKey });
      onDone();
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    save.mutate(new FormData(event.currentTarget));
  };
  const change = (key: number, changed: Partial<Draft>) =>
    setLevels(levels.map((level) => (level.key === key ? { ...level, ...changed } : level)));
  return (
    <form onSubmit={submit} className="mt-2 grid grid-cols-2 gap-x-3 gap-y-2">
      {rule.measure !== "lumtar" && (
        <>
          <Levels rule={rule} levels={levels} hasLimits={hasLimits} change={change} setLevels={setLevels} />
          <Field
            name="times"
            type="number"
            min="1"
            max="1000"
            label={rule.subject === "device" ? "Polls" : "Readings"}
            hint="that exceed it"
            defaultValue={rule.times}
            required
          />
          <Field
            name="of"
            type="number"
            min="1"
            max="1000"
            label="Of the last"
            hint="as many: in a row"
            defaultValue={rule.of}
            required
          />
          <Field
            wide
            name="minutes"
            type="number"
            min="0"
            step="any"
            label="Or for (minutes)"
            hint="0: the number of readings counts"
            defaultValue={rule.hold_s / 60}
            required
          />
          {rule.subject === "interface" && (
            <Field
              wide
              name="scope"
              label="Ports where"
              hint="a condition as for groups; empty: all ports"
              placeholder='role is wan and site is not "Depot"'
              defaultValue={rule.scope}
            />
          )}
        </>
      )}
      <Field
        wide
        name="mail_to"
        label="Mail to"
        defaultValue={rule.mail_to.join(", ")}
        placeholder="addresses, separated by commas"
      />
      <label className="col-span-2 flex gap-2">
        <input name="enabled" type="checkbox" defaultChecked={rule.enabled} /> Enabled
        <span className="text-ink2">switched off, its alarms are cleared</span>
      </label>
      <p role="alert" className="col-span-2 text-critical">
        {save.error?.message}
      </p>
      <button type="submit" className="button justify-self-start" disabled={save.isPending}>
        Save
      </button>
    </form>
  );
}

const draft = (level: Level, key: number, factor: number): Draft => ({
  key,
  severity: level.severity,
  limit: String(level.limit / factor),
  clear: String(level.clear / factor),
});

type LevelsProps = {
  rule: Rule;
  levels: Draft[];
  hasLimits: boolean;
  change: (key: number, changed: Partial<Draft>) => void;
  setLevels: (levels: Draft[]) => void;
};

/** The levels of a rule, the mildest first: each a severity with its limit and its clearing limit. */
function Levels({ rule, levels, hasLimits, change, setLevels }: LevelsProps) {
  const unit = rule.unit === "bit/s" ? "Mb/s" : rule.unit;
  const [side, back] = rule.above ? ["above", "below"] : ["below", "above"];
  return (
    <div className="col-span-2 grid gap-1.5">
      {levels.map((level) => (
        <div key={level.key} className="flex flex-wrap items-end gap-2">
          <label className="grid gap-1">
            Severity
            <select
              className="field"
              value={level.severity}
              onChange={(event) => change(level.key, { severity: Number(event.target.value) })}
            >
              {[5, 4, 3, 2, 1].map((each) => (
                <option key={each} value={each}>
                  {SEVERITIES[each]?.word}
                </option>
              ))}
            </select>
          </label>
          {hasLimits && (
            <>
              <Field
                className="field w-24"
                type="number"
                step="any"
                label={`Raise ${side}${unit && `, ${unit}`}`}
                value={level.limit}
                onChange={(event) => change(level.key, { limit: event.target.value })}
                required
              />
              <Field
                className="field w-24"
                type="number"
                step="any"
                label={`Clear ${back}${unit && `, ${unit}`}`}
                value={level.clear}
                onChange={(event) => change(level.key, { clear: event.target.value })}
                required
              />
              {levels.length > 1 && (
                <button
                  type="button"
                  className="underline"
                  onClick={() => setLevels(levels.filter((each) => each.key !== level.key))}
                >
                  Remove
                </button>
              )}
            </>
          )}
        </div>
      ))}
      {hasLimits && levels.length < MOST && (
        <button
          type="button"
          className="justify-self-start underline"
          onClick={() => {
            const last = levels[levels.length - 1];
            const severity = [1, 2, 3, 4, 5].find((each) => levels.every((level) => level.severity !== each)) ?? 5;
            const key = Math.max(0, ...levels.map((level) => level.key)) + 1;
            setLevels([...levels, { key, severity, limit: last?.limit ?? "", clear: last?.clear ?? "" }]);
          }}
        >
          Add a level
        </button>
      )}
    </div>
  );
}
