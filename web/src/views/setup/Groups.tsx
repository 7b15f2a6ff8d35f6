import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { client, got, type Schemas } from "../../api/client";
import { groupsQuery } from "../../api/queries";
import { Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Problem } from "../../components/Problem";
import { useTyped } from "../../components/useTyped";
import { ConditionField } from "./ConditionField";
import { OrderedPage } from "./OrderedPage";
import { useKeeping } from "./useKeeping";

type All = Schemas["GroupsOut"];
type Group = All["rows"][0];

const counted = (number: number, one: string) => `${number.toLocaleString("en")} ${number === 1 ? one : `${one}s`}`;

/** What a group holds, in words. */
function contents(group: Group, rows: Group[]): string {
  const subgroups = rows.filter((row) => group.subgroups.includes(row.id)).map((row) => row.name);
  return [
    group.condition && `where ${group.condition}`,
    group.ports_by_hand && `${counted(group.ports_by_hand, "port")} by hand`,
    group.devices_by_hand && `${counted(group.devices_by_hand, "device")} by hand`,
    ...subgroups,
  ]
    .filter(Boolean)
    .join(" · ");
}

/** Sets of ports that are listed, drawn and added up together. */
export function Groups() {
  const { data, error } = useQuery(groupsQuery);
  if (!data) return <Problem error={error} />;
  return (
    <OrderedPage
      title="Groups"
      words="A group holds the ports for which its condition is true now, those that were put into it by hand, all ports of its devices, and what is in its subgroups."
      make="New group"
      rows={data.rows}
      listed={groupsQuery.queryKey}
      form={(stored, onDone) => <GroupForm {...(stored ? { stored } : {})} all={data} onDone={onDone} />}
      said={(row) => (
        <p className="figures truncate text-small text-ink2">{contents(row, data.rows) || "nothing yet"}</p>
      )}
      aside={(row) => (
        <>
          <Link className="underline" to={`/fleet?group=${row.id}&list=total`}>
            {counted(row.ports, "port")} of {counted(row.devices, "device")}
          </Link>
          {" · "}
          <Link className="underline" to={`/traffic?group=${row.id}`}>
            traffic
          </Link>
        </>
      )}
      empty="No groups yet. A good first one: the links between sites, where role is wan."
    >
      <p className="max-w-[560px] pt-2 text-ink2">
        To put ports in by hand, choose them in the list of ports; devices are put in where a device is changed.
      </p>
    </OrderedPage>
  );
}

function GroupForm({ stored, all, onDone }: { stored?: Group; all: All; onDone: () => void }) {
  const [group, setGroup] = useState({
    name: stored?.name ?? "",
    condition: stored?.condition ?? "",
    subgroups: stored?.subgroups ?? [],
    is_transport: stored?.is_transport ?? false,
  });
  const condition = useTyped(group.condition);
  const { data: members, error: wrong } = useQuery({
    queryKey: ["groups", "try", condition],
    queryFn: () => got(client.POST("/api/v1/groups/try", { body: { condition } })),
    enabled: condition.trim() !== "",
    retry: false,
    gcTime: 0,
  });
  const { submit, foot } = useKeeping({
    save: () => {
      if (!stored) return got(client.POST("/api/v1/groups", { body: group }));
      return got(
        client.PUT("/api/v1/groups/{group}", {
          params: { path: { group: stored.id } },
          body: { ...group, edition: stored.edition },
        }),
      );
    },
    remove: stored && (() => got(client.DELETE("/api/v1/groups/{group}", { params: { path: { group: stored.id } } }))),
    onDone,
  });
  const others = all.rows.filter((row) => row.id !== stored?.id);
  const toggle = (id: number) =>
    setGroup({
      ...group,
      subgroups: group.subgroups.includes(id)
        ? group.subgroups.filter((each) => each !== id)
        : [...group.subgroups, id],
    });
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "A new group"}</h2>
      <Field
        label="Name"
        required
        wide
        maxLength={80}
        value={group.name}
        onChange={(event) => setGroup({ ...group, name: event.target.value })}
      />
      <ConditionField
        hint="empty: none by a condition"
        value={group.condition}
        onChange={(text) => setGroup({ ...group, condition: text })}
        fields={all.fields}
        example={'role is wan and site is not "Depot"'}
        problem={wrong?.message}
      />
      {members && condition.trim() !== "" && !wrong && (
        <div className="col-span-2" aria-live="polite">
          <p>
            <b className="font-semibold">{counted(members.ports, "port")}</b> now{members.examples.length ? ":" : "."}
          </p>
          <ul className="figures text-small text-ink2">
            {members.examples.map((each) => (
              <li key={`${each.device} ${each.label}`} className="truncate">
                {each.device} {each.label}
              </li>
            ))}
            {members.ports > members.examples.length && <li>and {members.ports - members.examples.length} more</li>}
          </ul>
        </div>
      )}
      {others.length > 0 && (
        <fieldset className="col-span-2 max-h-44 overflow-auto">
          <legend>Groups in it</legend>
          {others.map((row) => (
            <label key={row.id} className="flex min-h-6 gap-2">
              <input type="checkbox" checked={group.subgroups.includes(row.id)} onChange={() => toggle(row.id)} />
              {row.name} <span className="text-ink2">{counted(row.ports, "port")}</span>
            </label>
          ))}
        </fieldset>
      )}
      <label className="col-span-2 flex min-h-6 gap-2">
        <input
          type="checkbox"
          checked={group.is_transport}
          onChange={(event) => setGroup({ ...group, is_transport: event.target.checked })}
        />
        <span>
          Transport{" "}
          <span className="text-tiny text-ink2">a network that is not ours joins these ports; the map shows it</span>
        </span>
      </label>
      <FormFoot {...foot} />
    </form>
  );
}
