import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import {
  type Controller,
  controllerItemQuery,
  controllerProfilesQuery,
  controllersQuery,
} from "../../api/controllerQueries";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { counted, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Ordered } from "../setup/Ordered";
import { Page } from "../setup/Page";
import { ControllerForm } from "./ControllerForm";
import { ControllerProfileForm } from "./ControllerProfileForm";
import { Told } from "./Told";

const WORDS =
  "Managers of overlays and firewalls that are asked over REST. A profile says, by JSONPath (RFC 9535), where each make of controller tells of its devices, transports, tunnels, policies and alarms.";

type Open = { what: "controller" | "profile"; id: number | "new" } | null;

/** Controllers, what they tell of, and the profiles by which they are asked. */
export function Controllers() {
  const may = useMay();
  const set = useSetSearch();
  const [search] = useSearchParams();
  // An alarm about something that a controller tells of leads to it, wherever it stands.
  const { data: meant } = useQuery(controllerItemQuery(Number(search.get("item"))));
  const shown = Number(search.get("show")) || meant?.controller;
  const { data, error } = useQuery(controllersQuery);
  const { data: profiles } = useQuery(controllerProfilesQuery);
  const [form, setForm] = useState<Open>(null);
  if (!data || !profiles) return <Problem error={error} />;
  const chosen = data.find(({ id }) => id === shown) ?? data[0];
  const isAdministrator = may("administrator", true);
  const done = () => setForm(null);
  return (
    <Page
      title="Controllers"
      words={WORDS}
      aside={
        form?.what === "controller" ? (
          <ControllerForm
            key={form.id}
            row={data.find(({ id }) => id === form.id) ?? null}
            profiles={profiles}
            onDone={done}
          />
        ) : form?.what === "profile" ? (
          <ControllerProfileForm
            key={form.id}
            row={profiles.find(({ id }) => id === form.id) ?? null}
            controllers={data}
            onDone={done}
          />
        ) : (
          <Profiles
            names={profiles}
            {...(isAdministrator && { onOpen: (id: number | "new") => setForm({ what: "profile", id }) })}
          />
        )
      }
    >
      <Ordered
        rows={data}
        open={chosen?.id ?? null}
        onOpen={(id) => set({ show: String(id), item: "" })}
        words={(row) => <span className="figures text-ink2">{row.base}</span>}
        aside={(row) => <LastAsked row={row} />}
      />
      {data.length === 0 && (
        <p className="py-2 text-ink2">
          None yet. {profiles.length ? "Add the first one below." : "Describe its make in a profile first."}
        </p>
      )}
      {isAdministrator && profiles.length > 0 && (
        <p className="mt-2">
          <button type="button" className="button" onClick={() => setForm({ what: "controller", id: "new" })}>
            New controller
          </button>
        </p>
      )}
      {chosen && (
        <Told
          key={chosen.id}
          row={chosen}
          meant={meant}
          {...(isAdministrator && { onChange: () => setForm({ what: "controller", id: chosen.id }) })}
        />
      )}
    </Page>
  );
}

function LastAsked({ row }: { row: Controller }) {
  if (!row.enabled) return <span className="text-ink2">not asked</span>;
  if (row.problem)
    return (
      <span className="text-critical">
        {row.answered_at ? `last answered ${moment(new Date(row.answered_at))}` : "never answered"}
      </span>
    );
  return (
    <span className="text-ink2">{row.answered_at ? `asked ${moment(new Date(row.answered_at))}` : "being asked"}</span>
  );
}

type ProfilesProps = {
  names: { id: number; name: string; controllers: number }[];
  onOpen?: (id: number | "new") => void;
};

function Profiles({ names, onOpen }: ProfilesProps) {
  return (
    <section aria-label="Profiles of controllers">
      <h2 className="heading">Profiles</h2>
      <ul>
        {names.map(({ id, name, controllers }) => (
          <li key={id} className="flex gap-2 border-b border-faint py-1">
            {onOpen ? (
              <button type="button" className="font-medium hover:underline" onClick={() => onOpen(id)}>
                {name}
              </button>
            ) : (
              <span className="font-medium">{name}</span>
            )}
            <span className="ml-auto text-ink2">{counted(controllers, "controller")}</span>
          </li>
        ))}
      </ul>
      {onOpen && (
        <p className="mt-2">
          <button type="button" className="button" onClick={() => onOpen("new")}>
            New profile
          </button>
        </p>
      )}
    </section>
  );
}
