type Props = {
  /** What went wrong; said above the buttons, and nothing that was typed is lost. */
  problem?: string | undefined;
  isBusy: boolean;
  save?: string;
  onLeave?: () => void;
  onDelete?: (() => void) | undefined;
};

/** The end of a form: what went wrong, and what can be done. */
export function FormFoot({ problem, isBusy, save = "Save", onLeave, onDelete }: Props) {
  return (
    <>
      <p role="alert" className="col-span-2 text-critical">
        {problem}
      </p>
      <p className="col-span-2 flex gap-2">
        <button type="submit" className="button" disabled={isBusy}>
          {save}
        </button>
        {onLeave && (
          <button type="button" className="button" onClick={onLeave}>
            Cancel
          </button>
        )}
        {onDelete && (
          <button type="button" className="ml-auto text-critical underline" onClick={onDelete}>
            Delete
          </button>
        )}
      </p>
    </>
  );
}
