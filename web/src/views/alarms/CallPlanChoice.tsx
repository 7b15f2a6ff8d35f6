import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { plansQuery } from "../../api/callingQueries";
import { useMay } from "../../app/session";
import { Labelled } from "../../components/Field";

type Props = { planId: number | null; choose: (planId: number | null) => void };

/** The call plan of a rule; that nobody is called, or reached now, stands out. */
export function CallPlanChoice({ planId, choose }: Props) {
  const { data } = useQuery({ ...plansQuery, enabled: useMay()("viewer", true) });
  const chosen = data?.rows.find(({ id }) => id === planId);
  return (
    <>
      <Labelled wide label="Call plan" hint="who is called, in which steps">
        <select
          className="field min-w-0"
          value={planId ?? ""}
          onChange={(event) => choose(event.target.value ? Number(event.target.value) : null)}
        >
          <option value="">none: nobody is called</option>
          {data?.rows.map(({ id, name }) => (
            <option key={id} value={id}>
              {name}
            </option>
          ))}
        </select>
      </Labelled>
      {planId === null && (
        <p className="col-span-2 font-semibold text-critical">
          Nobody is called: its alarms are listed, and that is all.{" "}
          <Link to="/setup/plans" className="font-normal text-ink underline">
            Call plans
          </Link>
        </p>
      )}
      {chosen?.reaches_nobody && (
        <p className="col-span-2 font-semibold text-critical">
          This plan reaches nobody now: nobody is on duty, or there are no addresses.
        </p>
      )}
    </>
  );
}
