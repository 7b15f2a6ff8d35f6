type Props = {
  label: string;
  value: string;
  options: readonly (readonly [value: string, words: string])[];
  onChoose: (value: string) => void;
};

/** One of several, all of them in sight. */
export function InlineToggles({ label, value, options, onChoose }: Props) {
  return (
    <fieldset aria-label={label} className="flex flex-wrap">
      {options.map(([name, words]) => (
        <button
          key={name}
          type="button"
          aria-pressed={value === name}
          onClick={() => onChoose(name)}
          className={`h-6 px-1.5 ${value === name ? "marked" : "text-ink2 hover:text-ink"}`}
        >
          {words}
        </button>
      ))}
    </fieldset>
  );
}
