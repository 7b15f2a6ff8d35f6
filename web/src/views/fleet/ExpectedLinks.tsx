import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got, type Schemas } from "../../api/client";
import { expectedQuery } from "../../api/topologyQueries";
import { useMay } from "../../app/session";
import { counted, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { useTrail } from "./trail";

type Difference = Schemas["DifferenceOut"];

/** The expected topology: whether it is frozen, and where what is seen differs from it. */
export function ExpectedLinks() {
  const may = useMay();
  const again = useQueryClient();
  const { data, error } = useQuery(expectedQuery);
  const renew = { onSuccess: () => again.invalidateQueries({ queryKey: ["links"] }) };
  const freeze = useMutation({ mutationFn: () => got(client.POST("/api/v1/links/expected", {})), ...renew });
  const thaw = useMutation({ mutationFn: () => got(client.DELETE("/api/v1/links/expected", {})), ...renew });
  if (!data) return <Problem error={error} />;
  const { differences } = data;
  return (
    <section aria-label="Expected topology" className="px-3.5 py-2">
      <h3 className="heading">
        Expected topology{" "}
        <span className="font-normal text-ink2">
          {data.frozen_at
            ? `frozen at ${counted(data.frozen, "port")}, ${moment(new Date(data.frozen_at))} by ${data.frozen_by}`
            : "not frozen: a neighbour is expected once it was there for an hour, and missed for a day"}
        </span>
      </h3>
      {may("engineer", true) && (
        <p className="flex gap-3 py-[3px]">
          <button
            type="button"
            className="min-h-6 underline"
            onClick={() => freeze.mutate()}
            disabled={freeze.isPending}
          >
            {data.frozen ? "freeze it anew as it is now" : "freeze it as it is now"}
          </button>
          {data.frozen > 0 && (
            <button type="button" className="min-h-6 underline" onClick={() => thaw.mutate()} disabled={thaw.isPending}>
              do not freeze it any more
            </button>
          )}
        </p>
      )}
      <Problem error={freeze.error ?? thaw.error} />
      {differences.length === 0 && <p className="text-ink2">What is seen is what is expected.</p>}
      {differences.map((each) => (
        <DifferenceLine key={each.interface_id} difference={each} />
      ))}
    </section>
  );
}

function DifferenceLine({ difference: each }: { difference: Difference }) {
  const trail = useTrail();
  const may = useMay();
  const again = useQueryClient();
  const accept = useMutation({
    mutationFn: () =>
      got(
        client.POST("/api/v1/interfaces/{interface}/expected", { params: { path: { interface: each.interface_id } } }),
      ),
    onSuccess: () => again.invalidateQueries({ queryKey: ["links"] }),
  });
  return (
    <div className="border-b border-dotted border-rule py-[3px]">
      <Link className="font-semibold hover:underline" to={trail.portOf(each.device_id, each.interface_id)}>
        {each.device} {each.label}
      </Link>{" "}
      {each.seen ? `sees ${each.seen}` : "sees nobody"}
      <span className="text-ink2">
        {each.expected ? `; expected is ${each.expected}` : "; no neighbour is expected"}
        {!each.is_frozen && each.expected && ", which was there before"}
      </span>{" "}
      {may("engineer", true) && (
        <button type="button" className="min-h-6 underline" onClick={() => accept.mutate()} disabled={accept.isPending}>
          accept
        </button>
      )}
      <Problem error={accept.error} />
    </div>
  );
}
