import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import {
  addMembers,
  askController,
  type Controller,
  type ControllerItem,
  controllerItemsQuery,
  controllerKindsQuery,
} from "../../api/controllerQueries";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { duration, moment } from "../../components/format";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";

type Props = {
  row: Controller;
  /** What an alarm led here for. */
  meant: ControllerItem | undefined;
  onChange?: () => void;
};

/** What a controller tells of, a list at a time; members that are no devices yet can be added. */
export function Told({ row, meant, onChange }: Props) {
  const may = useMay();
  const set = useSetSearch();
  const queries = useQueryClient();
  const wanted = useSearchParams()[0].get("list") ?? meant?.kind ?? "device";
  const { data: kinds } = useQuery(controllerKindsQuery);
  const onSuccess = () => queries.invalidateQueries({ queryKey: ["controllers"] });
  const ask = useMutation({ mutationFn: () => askController(row.id), onSuccess });
  const add = useMutation({ mutationFn: (items: number[] | null) => addMembers(row.id, items), onSuccess });
  const isEngineer = may("engineer", true);
  const kind = kinds?.lists.find(({ name }) => name === wanted) ?? kinds?.lists[0];
  return (
    <section aria-label={`What ${row.name} tells of`} className="mt-4">
      <h2 className="heading flex items-baseline gap-3">
        {row.name}
        {isEngineer && (
          <button type="button" className="min-h-6 font-normal underline" onClick={() => ask.mutate()}>
            Ask now
          </button>
        )}
        {onChange && (
          <button type="button" className="min-h-6 font-normal underline" onClick={onChange}>
            Change
          </button>
        )}
      </h2>
      <p className="text-ink2">
        Asked every {duration(row.every_s)}. Members may have addresses in {row.allowed || "no range"}
        {row.adds ? ", and become devices by themselves." : "; they become devices when somebody adds them."}
      </p>
      {row.problem && (
        <p role="alert" className="text-critical">
          It cannot be asked: {row.problem}. What it told before is shown.
        </p>
      )}
      <Complaints row={row} />
      {row.missing_members > 0 && (
        <p className="text-minor">
          {row.missing_members} of {row.counts.device} members are missing from its last answer. They are taken out once
          three answers in a row lack them; their devices stay.
        </p>
      )}
      <Problem error={ask.error ?? add.error} />
      {kinds && kind && (
        <>
          <div className="mt-2 text-small">
            <InlineToggles
              label="Show"
              value={kind.name}
              options={kinds.lists.map(({ name, words }) => [name, `${words} ${row.counts[name] ?? 0}`] as const)}
              onChoose={(list) => set({ list })}
            />
          </div>
          {kind.name === "device" && row.new_members > 0 && isEngineer && (
            <p className="mt-1">
              {row.new_members} {row.new_members === 1 ? "member is" : "members are"} no device yet.{" "}
              <button
                type="button"
                className="min-h-6 underline"
                disabled={add.isPending}
                onClick={() => add.mutate(null)}
              >
                Add all that may be
              </button>
            </p>
          )}
          <Items
            controller={row.id}
            kind={kind.name}
            meant={meant?.id}
            {...(isEngineer && { onAdd: (item: number) => add.mutate([item]) })}
          />
        </>
      )}
    </section>
  );
}

function Complaints({ row }: { row: Controller }) {
  const all = Object.entries(row.complaints);
  if (!all.length || row.problem) return null;
  return (
    <details className="text-minor" open>
      <summary className="min-h-6 cursor-pointer">Not all of it could be read</summary>
      <ul className="ml-4 list-disc text-ink">
        {all.map(([list, words]) => (
          <li key={list}>
            {list}: {words.join(" ")}
          </li>
        ))}
      </ul>
    </details>
  );
}

type ItemsProps = { controller: number; kind: string; meant: number | undefined; onAdd?: (item: number) => void };

function Items({ controller, kind, meant, onAdd }: ItemsProps) {
  const { data, error } = useQuery(controllerItemsQuery(controller, kind));
  if (!data) return <Problem error={error} />;
  if (!data.length) return <p className="py-2 text-ink2">It tells of none.</p>;
  return (
    <ul aria-label="Told" className="mt-1 border-t border-rule">
      {data.map((item) => (
        <li
          key={item.id}
          aria-current={item.id === meant ? "true" : undefined}
          className={`grid grid-cols-[minmax(0,0.8fr)_minmax(0,1.6fr)_minmax(0,0.8fr)] items-baseline gap-3 border-b border-faint py-1 max-md:grid-cols-1 max-md:gap-0 ${item.gone_at ? "text-ink2" : ""} ${item.id === meant ? "bg-lampsoft" : ""}`}
        >
          <span className="flex min-w-0 items-center gap-1.5">
            {item.severity > 0 && <Severity level={item.severity} />}
            {item.device && kind === "device" ? (
              <Link className="truncate font-medium underline" to={`/fleet/device/${item.device}`}>
                {item.name}
              </Link>
            ) : (
              <span className="min-w-0 font-medium">{item.name}</span>
            )}
          </span>
          <span className="min-w-0 text-ink2">{factWords(item)}</span>
          <span className="flex items-baseline gap-3 justify-self-end max-md:justify-self-start">
            <State item={item} />
            {kind === "device" && !item.device && !item.gone_at && onAdd && (
              <button
                type="button"
                className="min-h-6 underline disabled:no-underline"
                aria-label={`Add ${item.name}`}
                title={item.words}
                onClick={() => onAdd(item.id)}
              >
                Add
              </button>
            )}
          </span>
        </li>
      ))}
    </ul>
  );
}

function State({ item }: { item: ControllerItem }) {
  const since = moment(new Date(item.since));
  if (item.gone_at) return <span>not told of since {moment(new Date(item.gone_at))}</span>;
  if (item.missed > 0)
    return (
      <span className="text-minor">
        missing from the last {item.missed === 1 ? "answer" : `${item.missed} answers`}
      </span>
    );
  if (item.kind === "alarm")
    return <span className="text-ink2">{item.severity ? `since ${since}` : `over since ${since}`}</span>;
  if (item.up === null) return null;
  return item.up ? (
    <span className="text-ink2">{item.facts.state}</span>
  ) : (
    <span className="text-critical">
      {item.facts.state} since {since}
    </span>
  );
}

/** What else is told of something, in words. */
export function factWords({ kind, facts, device_name, about, words }: ControllerItem): string {
  const said: Record<string, (string | undefined)[]> = {
    device: [facts.address, facts.site, facts.model, words],
    transport: [facts.provider, device_name && [device_name, facts.interface].filter(Boolean).join(" ")],
    tunnel: [[device_name, facts.interface].filter(Boolean).join(" ")],
    policy: [
      facts.about && `for ${facts.about}`,
      facts.transport && `takes ${facts.transport}`,
      facts.changed_by && `changed by ${facts.changed_by}`,
    ],
    alarm: [about || device_name || "the controller itself"],
  };
  return (said[kind] ?? []).filter(Boolean).join(" · ");
}
