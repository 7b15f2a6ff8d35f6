type Props = {
  /** The words before it, as in "role any". */
  label: string;
  value: string;
  options: readonly (readonly [value: string, words: string])[];
  onChoose: (value: string) => void;
  className?: string;
};

/** One of several, within a line of text. */
export function InlineChoice({ label, value, options, onChoose, className = "" }: Props) {
  return (
    <label className={`text-ink2 ${className}`}>
      {label}{" "}
      <select
        className="h-6 bg-paper text-ink underline"
        value={value}
        onChange={(event) => onChoose(event.target.value)}
      >
        {options.map(([name, words]) => (
          <option key={name} value={name}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
}
