import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got } from "../../api/client";
import { useTimeSearch } from "../../app/screenTime";
import { duration } from "../../components/format";

/** What a rule that is in force did in four weeks, how much of it was of use, and what would make it quieter. */
export function RuleReport({ rule }: { rule: number }) {
  const keep = useTimeSearch();
  const { data } = useQuery({
    queryKey: ["alarms", "report", rule],
    queryFn: () => got(client.GET("/api/v1/rules/{rule}/report", { params: { path: { rule } } })),
  });
  if (!data) return null;
  return (
    <section aria-label="What it did">
      <h2 className="heading mt-3">
        What it did <span className="font-normal text-ink2">in the last 28 days</span>
      </h2>
      {data.alarms === 0 ? (
        <p className="py-1 text-ink2">It raised nothing.</p>
      ) : (
        <div className="flex flex-wrap gap-x-8 gap-y-1 py-1">
          <Figure value={data.alarms} words="alarms" />
          <Figure value={data.of_use} words="acknowledged, commented on or closed" />
          <Figure value={data.messages} words="messages" />
          <p>
            <b className="figures text-headline font-semibold">{duration(data.median_s)}</b> the one in the middle
            lasted
          </p>
        </div>
      )}
      {data.proposals.map((words) => (
        <p key={words} className="border-b border-dotted border-rule py-1 font-medium">
          {words}
        </p>
      ))}
      {data.alarms > 0 && (
        <ul className="grid grid-cols-2 gap-x-6 max-md:grid-cols-1">
          {data.noisiest.map((each) => (
            <li key={each.alarm} className="flex gap-2 border-b border-dotted border-rule py-[3px]">
              <Link className="min-w-0 flex-1 truncate hover:underline" to={`/alarms/${each.alarm}${keep()}`}>
                {each.label}
              </Link>
              <span className="figures">{each.alarms}</span>
              <span className="figures w-20 text-right text-ink2">{each.of_use} of use</span>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function Figure({ value, words }: { value: number; words: string }) {
  return (
    <p>
      <b className="figures text-headline font-semibold">{value.toLocaleString("en-GB")}</b> {words}
    </p>
  );
}
