import { useMutation, useQuery } from "@tanstack/react-query";
import type { FormEvent } from "react";
import { client, got } from "../../api/client";
import { restartQuery } from "../../api/topologyQueries";
import { Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Impact } from "../map/Impact";

/** Restarts a device, if its profile says how: asked why, with what would be cut off meanwhile. */
export function RestartDevice({ device, onDone }: { device: number; onDone: () => void }) {
  const { data, error } = useQuery(restartQuery(device));
  const restart = useMutation({
    mutationFn: (reason: string) =>
      got(client.POST("/api/v1/devices/{device}/restart", { params: { path: { device } }, body: { reason } })),
  });
  if (!data) return <p role="alert">{error?.message ?? "Looking whether it can be restarted …"}</p>;
  if (!data.is_there) return <p>Its profile does not say how it is restarted; that is set in Setup, profiles.</p>;
  if (data.refused) return <p role="alert">{data.refused}</p>;
  if (restart.data)
    return (
      <p role="status" className={restart.data.is_done ? "" : "text-critical"}>
        {restart.data.words}
      </p>
    );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    restart.mutate(String(new FormData(event.currentTarget).get("reason")));
  };
  return (
    <form onSubmit={submit} className="grid max-w-[480px] grid-cols-2 gap-x-3 gap-y-2">
      <Field name="reason" label="Why" hint="kept in the logbook" required minLength={3} maxLength={200} wide />
      <div className="col-span-2">
        <Impact question={{ node: `device-${device}` }} title="While it restarts" />
      </div>
      <FormFoot problem={restart.error?.message} isBusy={restart.isPending} save="Restart it now" onLeave={onDone} />
    </form>
  );
}
