import type { ComponentProps, ReactNode } from "react";

type Words = { label: string; hint?: string; wide?: boolean };

/** A control with its name above it and, beside the name, what a good value is. */
export function Labelled({ label, hint, wide, children }: Words & { children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className={`grid min-w-0 content-start gap-1 ${wide ? "col-span-2" : ""}`}>
      <span>
        {label} {hint && <span className="text-tiny text-ink2">{hint}</span>}
      </span>
      {children}
    </label>
  );
}

/** A line to type into. */
export function Field({ label, hint = "", wide = false, ...input }: Words & ComponentProps<"input">) {
  return (
    <Labelled label={label} hint={hint} wide={wide}>
      <input className="field min-w-0" autoComplete="off" {...input} />
    </Labelled>
  );
}

/** Something that holds or does not, with its words behind it. */
export function Check({ words, is, onChange }: { words: string; is: boolean; onChange: (is: boolean) => void }) {
  return (
    <label className="col-span-full flex min-h-6 items-center gap-1.5">
      <input type="checkbox" checked={is} onChange={(event) => onChange(event.target.checked)} />
      {words}
    </label>
  );
}

/** One of several words; the empty one reads "none". */
export function Choice({
  label,
  hint = "",
  wide = false,
  options,
  ...select
}: Words & { options: readonly string[] } & ComponentProps<"select">) {
  return (
    <Labelled label={label} hint={hint} wide={wide}>
      <select className="field min-w-0" {...select}>
        {options.map((option) => (
          <option key={option} value={option}>
            {option || "none"}
          </option>
        ))}
      </select>
    </Labelled>
  );
}
