import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { rulesQuery, vocabularyQuery } from "../../api/queries";
import { RehearsalChart } from "./RehearsalChart";
import { bodyOf, draftOf, ownUnit } from "./ruleDraft";

const DAY_MS = 86_400_000;
/** Measures that are 0 or 1: a line says no more than the words. */
const OF_STATES = ["lumtar", "unanswered", "faulty", "gone", "half_duplex"];

/** What the rule of an alarm looked at lately, its limits, and when the alarm was active. */
export function AlarmChart({ row }: { row: Schemas["AlarmRow"] }) {
  const { data: rules } = useQuery(rulesQuery);
  const { data: words } = useQuery(vocabularyQuery);
  const rule = rules?.find(({ name }) => name === row.rule);
  const subject = row.resource === rule?.subject ? row.resource_id : null;
  // Further back than a week nothing would be seen of it.
  const age = Date.now() - Date.parse(row.raised_at);
  if (!rule || !words || !subject || OF_STATES.includes(rule.measure) || age > 7 * DAY_MS) return null;
  const draft = draftOf(words, rule);
  return (
    <RehearsalChart
      body={JSON.stringify({ ...bodyOf(words, draft), rule_id: rule.id })}
      revision={rule.revision}
      days={age > DAY_MS ? 7 : 1}
      subject={subject}
      levels={draft.levels}
      unit={ownUnit(words, draft)}
    />
  );
}
