import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got } from "../../api/client";
import { Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { counted } from "../../components/format";
import { useTyped } from "../../components/useTyped";

const COLUMNS = "from_device,from_port,to_device,to_port,note";

/** Links by hand, typed or pasted as CSV; what would be added is said while one types. */
export function EnterLinks({ onDone }: { onDone: () => void }) {
  const [lines, setLines] = useState(`${COLUMNS}\n`);
  const text = useTyped(lines);
  const queries = useQueryClient();
  const hasLines = text.trim().split("\n").length > 1;
  const send = (keep: boolean) => got(client.POST("/api/v1/links/list", { body: { text: keep ? lines : text, keep } }));
  const { data: read, error } = useQuery({
    queryKey: ["links", "list", text],
    queryFn: () => send(false),
    enabled: hasLines,
    retry: false,
    gcTime: 0,
  });
  const save = useMutation({
    mutationFn: () => send(true),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["links"] });
      void queries.invalidateQueries({ queryKey: ["map"] });
      onDone();
    },
  });
  return (
    <form
      aria-label="Links by hand"
      className="grid gap-2 border-b border-rule px-3.5 py-2"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <Labelled
        label="Links by hand"
        hint="one a line; a device by name or address, a port by ifName, label or ifIndex, empty if not known"
      >
        <textarea
          className="field figures h-28 w-full"
          spellCheck={false}
          value={lines}
          onChange={(event) => setLines(event.target.value)}
        />
      </Labelled>
      {hasLines && read && (
        <div aria-live="polite">
          <p>{counted(read.added, "link")} would be added.</p>
          {read.problems.slice(0, 20).map((each) => (
            <p key={each.number} className="text-critical">
              Line {each.number}, {each.words}: {each.problem}
            </p>
          ))}
        </div>
      )}
      <FormFoot
        problem={(save.error ?? (hasLines ? error : null))?.message}
        isBusy={save.isPending || !hasLines}
        save="Add these links"
        onLeave={onDone}
      />
    </form>
  );
}
