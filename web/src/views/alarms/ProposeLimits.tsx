import { useMutation } from "@tanstack/react-query";
import { client, got } from "../../api/client";
import { bodyOf, type Draft, type Vocabulary } from "./ruleDraft";

/** Alarms a week and subject that a severity may make. */
const A_WEEK: Record<number, number> = { 1: 2, 2: 1, 3: 0.5, 4: 0.25, 5: 0.1 };
/** Of a limit, where its clearing limit lies. */
const CLEAR = 0.6;

type Props = { draft: Draft; words: Vocabulary; change: (changed: Partial<Draft>) => void };

/** Proposes limits of a rule that compares with what is normal, from what there was. */
export function ProposeLimits({ draft, words, change }: Props) {
  const propose = useMutation({
    mutationFn: () => {
      const body = bodyOf(words, draft);
      const a_week = (body.levels ?? []).map(({ severity }) => A_WEEK[severity] ?? 1);
      return got(client.POST("/api/v1/rules/tolerance", { body: { ...body, a_week, days: 14 } }));
    },
    onSuccess: ({ limits }) => {
      const ordered = [...draft.levels].sort((one, other) => one.severity - other.severity);
      let least = 0;
      change({
        levels: ordered.map((level, place) => {
          const proposed = limits[place];
          if (proposed == null) return level;
          // A worse level needs a higher limit, also where the history does not tell them apart.
          const limit = Math.max(proposed, least ? Math.round(11 * least) / 10 : 0);
          least = limit;
          const signed = draft.direction === "below" ? -limit : limit;
          return { ...level, limit: String(signed), clear: String(Math.round(10 * CLEAR * signed) / 10) };
        }),
      });
    },
  });
  const isUnknown = propose.data?.limits.every((limit) => limit === null);
  return (
    <span className="ml-auto font-normal">
      <button type="button" className="min-h-6 underline" disabled={propose.isPending} onClick={() => propose.mutate()}>
        {propose.isPending ? "Working out …" : "Propose limits"}
      </button>
      {propose.error && (
        <span role="alert" className="block text-critical">
          {propose.error.message}
        </span>
      )}
      {isUnknown && (
        <span role="status" className="block text-critical">
          Nothing is known yet: two weeks of readings are needed.
        </span>
      )}
    </span>
  );
}
