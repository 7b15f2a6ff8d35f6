type Props = { label: string; checked: boolean; onChange: () => void; className?: string };

/** A checkbox at the head of a row: small to look at, large enough to hit. */
export function RowCheckbox({ label, checked, onChange, className = "" }: Props) {
  return (
    <label className={`relative grid w-7 shrink-0 place-items-center ${className}`} title={label}>
      <input
        type="checkbox"
        className="peer absolute inset-0 m-0 size-full opacity-0"
        aria-label={label}
        checked={checked}
        onChange={onChange}
      />
      <i className="size-[13px] rounded-[2px] border border-ink2 peer-checked:border-ink peer-checked:bg-ink peer-focus-visible:outline-2 peer-focus-visible:outline-offset-2" />
    </label>
  );
}
