import { Dialog } from "radix-ui";
import { VIEWS } from "../views/manifest";
import { setSingleKeys, useSingleKeys } from "./shortcuts";

const KEYS: [string, string][] = [
  ["/", "jump to a name, address, port or view"],
  ["j  k", "next and previous row"],
  ["Enter", "open the row"],
  ["Esc", "back; in a chart, undo the zoom"],
  ["n", "back to now"],
  ["a  s  c", "in Alarms: acknowledge, shelve, comment"],
  ["x", "in Alarms: select the row"],
  ["←  →", "earlier and later, a quarter of what is shown"],
  ["+  −", "half and double the time shown"],
  ["?", "these keys"],
  ...VIEWS.map(({ key, name }): [string, string] => [key, name]),
];

/** The keys, on one card. */
export function KeysHelp({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  const single = useSingleKeys();
  return (
    <Dialog.Root open={open} onOpenChange={onOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-24 left-1/2 w-[360px] max-w-[94vw] -translate-x-1/2 border border-ink bg-sheet p-4 shadow-lg"
        >
          <Dialog.Title className="heading">Keys</Dialog.Title>
          <dl className="grid grid-cols-[64px_1fr] gap-y-1.5 pt-1">
            {KEYS.map(([key, does]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd className="key">{key}</kbd>
                </dt>
                <dd>{does}</dd>
              </div>
            ))}
          </dl>
          <label className="mt-3 flex gap-2 border-t border-rule pt-2">
            <input type="checkbox" checked={single} onChange={(event) => setSingleKeys(event.target.checked)} />
            Single-character keys
            <span className="text-ink2">off: they do nothing</span>
          </label>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
