import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { Field } from "../../components/Field";

type Speed = NonNullable<Schemas["InterfaceOut"]["speed"]>;
const MEGA = 1_000_000;

/** What a circuit is sold as, where that is slower than its port; the past keeps the speed it was measured by. */
export function SoldSpeed({ port, speed }: { port: number; speed: Speed | null }) {
  const [open, setOpen] = useState(false);
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: (form: FormData) => {
      const bps = (name: string) => (form.get(name) ? Math.round(Number(form.get(name)) * MEGA) : null);
      const body = { in_bps: bps("in"), out_bps: bps("out") };
      return got(client.PUT("/api/v1/interfaces/{interface}/speed", { params: { path: { interface: port } }, body }));
    },
    onSuccess: () => {
      setOpen(false);
      void queries.invalidateQueries();
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    save.mutate(new FormData(event.currentTarget));
  };
  const sold = (way: "in" | "out") =>
    speed?.[`${way}_source`] === "override" ? speed[`${way}_bps`] / MEGA : undefined;
  return (
    <>
      <button type="button" className="underline" aria-expanded={open} onClick={() => setOpen(!open)}>
        {speed?.in_source === "exceeded" || speed?.out_source === "exceeded" ? "Set its speed" : "Sold as …"}
      </button>
      {open && (
        <form
          onSubmit={submit}
          className="my-2 flex max-w-[560px] flex-wrap items-end gap-3 border-l-2 border-ink pl-3 text-ink"
        >
          {(["in", "out"] as const).map((way) => (
            <Field
              key={way}
              name={way}
              label={`${way}, Mb/s`}
              type="number"
              step="any"
              min={0.001}
              className="field w-28"
              defaultValue={sold(way)}
            />
          ))}
          <button type="submit" className="button" disabled={save.isPending}>
            Save
          </button>
          <p className="w-full text-ink2">
            Empty: the port's own speed. It holds from now on; what was measured before stays.
          </p>
          <p role="alert" className="w-full text-critical">
            {save.error?.message}
          </p>
        </form>
      )}
    </>
  );
}
