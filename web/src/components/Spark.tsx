/** A small line of values; what is not known is left out, never joined over. */
export function Spark({ values, most = 100 }: { values: (number | null)[]; most?: number }) {
  if (!values.some((value) => value !== null)) return <span />;
  const [width, height] = [96, 20];
  const top = Math.max(most, ...values.map((value) => value ?? 0));
  let path = "";
  let joined = false;
  values.forEach((value, number) => {
    if (value === null) {
      joined = false;
      return;
    }
    path += `${joined ? "L" : "M"}${((number / (values.length - 1)) * width).toFixed(1)} ${(height - 1 - (value / top) * (height - 2)).toFixed(1)}`;
    joined = true;
  });
  return (
    <svg width={width} height={height} aria-hidden="true">
      <path d={path} fill="none" stroke="var(--ink2)" strokeWidth="1.300" />
    </svg>
  );
}
