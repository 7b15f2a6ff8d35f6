/** What went wrong, where it went wrong; nothing when all is well. */
export function Problem({ error }: { error: Error | null }) {
  if (!error) return null;
  return (
    <p role="alert" className="px-4 py-2 text-critical">
      {error.message}
    </p>
  );
}
