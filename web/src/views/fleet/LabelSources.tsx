import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { labelSourcesQuery } from "../../api/setupQueries";
import { Field } from "../../components/Field";
import { Problem } from "../../components/Problem";
import { useTyped } from "../../components/useTyped";

const SHOWN = 6;

/** Where the labels of a device's ports could come from, side by side for its real ports, the proposal first. */
export function LabelSources({ device, onDone }: { device: Schemas["DeviceOut"]; onDone: () => void }) {
  const queries = useQueryClient();
  const [typed, setTyped] = useState("");
  const wanted = useTyped(typed.trim());
  const { data: usual, error: missing } = useQuery(labelSourcesQuery(device.row.id, ""));
  // What is typed may be wrong: what was there before stays on screen.
  const { data: own, error } = useQuery({ ...labelSourcesQuery(device.row.id, wanted), enabled: wanted !== "" });
  const data = own ?? usual;
  const choose = useMutation({
    mutationFn: (label_template: string) =>
      got(
        client.PATCH("/api/v1/devices/{device}", {
          params: { path: { device: device.row.id } },
          body: { edition: device.edition, label_template },
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries();
      onDone();
    },
  });
  if (!data) return <Problem error={missing} />;
  const best = data.candidates[0]?.template;
  // What was typed and what is in force are shown in any case.
  const must = [wanted, data.in_force];
  const shown = [
    ...data.candidates.slice(0, SHOWN),
    ...data.candidates.slice(SHOWN).filter(({ template }) => must.includes(template)),
  ];
  return (
    <div className="my-2 border-l-2 border-ink pl-3">
      <p className="max-w-[640px]">
        What the ports of this device are called, for the first {data.names.length} of {data.ports}. Proposed is what
        tells most ports apart.{" "}
        {data.template
          ? "It has its own template."
          : "It has no template of its own: rules, its profile or the default decide."}
      </p>
      <div className="my-1 max-w-[340px]">
        <Field
          label="Label template"
          hint="{alias} {name} {descr} {index} {mac}, or {alias|name}"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
      </div>
      <Problem error={(wanted ? error : null) ?? choose.error} />
      <div className="overflow-x-auto">
        <table className="figures text-small">
          <thead>
            <tr className="border-b border-rule text-left align-bottom">
              <th className="py-1 pr-4 font-normal text-ink2">ifIndex</th>
              {shown.map((each) => (
                <th key={each.template} className="max-w-[170px] py-1 pr-4 font-normal">
                  <b className="font-semibold">{each.template}</b>
                  <br />
                  <span className="text-ink2">
                    tells {each.apart} of {data.ports} apart
                    {each.template === best && ", proposed"}
                    {each.template === data.in_force && ", in force"}
                  </span>
                  <br />
                  <button
                    type="button"
                    className="min-h-6 underline disabled:no-underline"
                    disabled={choose.isPending || each.template === data.template}
                    onClick={() => choose.mutate(each.template)}
                  >
                    {each.template === data.template ? "Chosen" : "Choose"}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data.names.map((name, row) => (
              <tr key={name} className="border-b border-faint">
                <td className="py-[3px] pr-4 text-ink2">{name}</td>
                {shown.map((each) => (
                  <td key={each.template} className="max-w-[170px] truncate py-[3px] pr-4">
                    {each.labels[row]}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="flex gap-2 pt-2">
        {data.template && (
          <button type="button" className="button" onClick={() => choose.mutate("")}>
            Let rules and profile decide
          </button>
        )}
        <button type="button" className="button" onClick={onDone}>
          Cancel
        </button>
      </p>
    </div>
  );
}
