import { Field } from "./Field";

type Span = { start: string; end: string };

/** When something begins and ends, by the clock on the wall. */
export function FromUntil({ span, change }: { span: Span; change: (what: Partial<Span>) => void }) {
  return (
    <>
      <Field
        label="From"
        type="datetime-local"
        required
        value={span.start}
        onChange={(event) => change({ start: event.target.value })}
      />
      <Field
        label="Until"
        type="datetime-local"
        required
        value={span.end}
        onChange={(event) => change({ end: event.target.value })}
      />
    </>
  );
}
