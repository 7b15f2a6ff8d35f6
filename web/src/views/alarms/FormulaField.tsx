import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { client, got } from "../../api/client";
import { useTyped } from "../../components/useTyped";
import type { Draft, Vocabulary } from "./ruleDraft";

type Props = { draft: Draft; words: Vocabulary; change: (changed: Partial<Draft>) => void };

/** A formula of measures: checked while it is typed, completed by name, with what it gives now. */
export function FormulaField({ draft, words, change }: Props) {
  const formula = draft.measure.replace(/^=\s*/, "");
  const typed = useTyped(draft.measure);
  const { data, error } = useQuery({
    queryKey: ["rules", "formula", typed],
    queryFn: () => got(client.POST("/api/v1/rules/formula", { body: { measure: typed } })),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  // The word that is being typed; what begins like it can be taken over.
  const last = formula.match(/[A-Za-z_]\w*$/)?.[0] ?? "";
  const fitting = last
    ? words.measures.filter(({ name }) => name.startsWith(last) && name !== last)
    : words.measures.filter(({ subject }) => !data || subject === data.subject);
  const complete = (name: string) => change({ measure: `= ${formula.slice(0, formula.length - last.length)}${name}` });
  return (
    <span className="mb-1 block rounded border border-rule px-2 py-1 leading-normal">
      <label className="flex items-baseline gap-2">
        <span className="text-ink2">=</span>
        <input
          aria-label="Formula"
          className="field figures min-w-0 flex-1"
          spellCheck={false}
          maxLength={200}
          placeholder="100 * in / (in + out)"
          value={formula}
          onChange={(event) => change({ measure: `= ${event.target.value}` })}
        />
      </label>
      <span className="block pt-1 text-small" role="status">
        {error ? (
          <span className="text-critical">{error.message}</span>
        ) : (
          data && (
            <span className="text-ink2">
              {data.label ? `${data.label} now: ${data.value ?? "nothing measured"} ${data.unit}` : data.unit}
            </span>
          )
        )}
      </span>
      <span className="flex flex-wrap gap-x-2 text-small">
        {fitting.slice(0, 10).map(({ name, words: text }) => (
          <button
            key={name}
            type="button"
            className="min-h-6 underline decoration-rule hover:decoration-ink"
            title={text}
            onClick={() => complete(name)}
          >
            {name}
          </button>
        ))}
        <span className="min-h-6 text-ink2">+ - * / ( ) min max abs</span>
      </span>
    </span>
  );
}
