import type { Schemas } from "../../api/client";
import { Labelled } from "../../components/Field";

type Props = {
  name?: string;
  value: string;
  onChange: (text: string) => void;
  fields: Schemas["ConditionField"][];
  example: string;
  /** What an empty condition means. */
  hint?: string;
  problem?: string | undefined;
};

/** A condition to write, with what it can ask about beside it. */
export function ConditionField({
  name = "condition",
  value,
  onChange,
  fields,
  example,
  hint = "empty: always",
  problem,
}: Props) {
  return (
    <div className="col-span-2 grid gap-1">
      <Labelled label="Where" hint={hint} wide>
        <textarea
          name={name}
          className="field figures min-h-[54px]"
          spellCheck={false}
          value={value}
          placeholder={example}
          aria-invalid={problem !== undefined}
          onChange={(event) => onChange(event.target.value)}
        />
      </Labelled>
      {problem && (
        <p role="status" className="text-critical">
          {problem}
        </p>
      )}
      <details>
        <summary className="cursor-pointer text-ink2">Fields and operators</summary>
        <dl className="figures grid max-h-52 grid-cols-[110px_minmax(0,1fr)] overflow-auto text-small">
          {fields.map((field) => (
            <div key={field.name} className="contents">
              <dt className="py-[2px]">{field.name}</dt>
              <dd className="py-[2px] text-ink2">
                {field.verbs.join(", ")}: {field.meaning}
              </dd>
            </div>
          ))}
        </dl>
        <p className="pt-1 text-small text-ink2">
          Tests are joined by and, or, not and parentheses; a list of values stands in parentheses; * and ? stand for
          anything and for one character.
        </p>
      </details>
    </div>
  );
}
