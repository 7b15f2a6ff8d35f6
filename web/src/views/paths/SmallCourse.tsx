const [WIDTH, HEIGHT] = [96, 26];

type Props = { values: (number | null)[]; most: number; limit: number | null; isLessWorse: boolean };

/** A path over the time shown, as small as a cell: dark where it is beyond the first level of rules, a gap where nothing is known. */
export function SmallCourse({ values, most, limit, isLessWorse }: Props) {
  const wide = WIDTH / Math.max(1, values.length);
  const y = (value: number) => HEIGHT - 1 - (Math.min(value, most) / most) * (HEIGHT - 2);
  const isBad = (value: number) => limit !== null && (isLessWorse ? value < limit : value > limit);
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      preserveAspectRatio="none"
      aria-hidden="true"
      className="block h-[26px] w-full bg-track"
    >
      {values.map((value, place) =>
        value === null ? null : (
          <rect
            // biome-ignore lint/suspicious/noArrayIndexKey: places in time do not change their order
            key={place}
            x={place * wide}
            y={y(value)}
            width={wide + 0.2}
            height={Math.max(1, HEIGHT - y(value))}
            fill={isBad(value) ? "var(--critical)" : "var(--ink2)"}
          />
        ),
      )}
      {limit !== null && limit <= most && (
        <line x1={0} x2={WIDTH} y1={y(limit)} y2={y(limit)} stroke="var(--critical)" strokeWidth={1} />
      )}
    </svg>
  );
}
