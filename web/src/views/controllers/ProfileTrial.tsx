import { useEffect, useRef, useState } from "react";
import type {
  Controller,
  ControllerProfileBody,
  ControllerTrial,
  ListKind,
  SignInWay,
} from "../../api/controllerQueries";
import { readLines } from "../../api/lines";
import { Field } from "../../components/Field";
import { SignInSecret } from "./SignInSecret";

type Line = { list: string; rows: Record<string, string>[]; count: number; wrong: string[] };
type Props = {
  body: ControllerProfileBody;
  way: SignInWay | undefined;
  kinds: ListKind[];
  controllers: Controller[];
};

/** Asking a controller by a profile as it stands in the form: what is found of each list, and what is wrong with it. */
export function ProfileTrial({ body, way, kinds, controllers }: Props) {
  const [at, setAt] = useState(controllers[0]?.base ?? "https://");
  const [secret, setSecret] = useState<Record<string, string>>({});
  const [lines, setLines] = useState<Line[]>([]);
  const [state, setState] = useState<"idle" | "running" | "done">("idle");
  const [problem, setProblem] = useState("");
  const abort = useRef<AbortController>(null);
  useEffect(() => () => abort.current?.abort(), []);
  const known = controllers.find(({ base }) => base === at.trim());
  const typed = Object.values(secret).some(Boolean);

  const attempt = async () => {
    abort.current?.abort();
    const mine = new AbortController();
    abort.current = mine;
    setLines([]);
    setProblem("");
    setState("running");
    const asked: ControllerTrial = {
      ...body,
      base: at,
      authority: known?.authority ?? "",
      controller: known?.id ?? null,
      secret: typed || !known ? secret : null,
    };
    try {
      await readLines<Line>("controllers/try", asked, (line) => setLines((before) => [...before, line]), mine.signal);
    } catch (error) {
      if (!mine.signal.aborted) setProblem((error as Error).message);
    }
    if (!mine.signal.aborted) setState("done");
  };
  return (
    <section aria-label="Trial" className="col-span-2 mt-2 grid grid-cols-2 gap-2 border-t border-rule pt-2">
      <h3 className="col-span-2 font-semibold">Try it</h3>
      <Field
        wide
        label="At"
        hint={known ? `${known.name}, with what is stored for it` : "its address"}
        list="controllers"
        value={at}
        onChange={(event) => setAt(event.target.value)}
      />
      <datalist id="controllers">
        {controllers.map(({ id, base }) => (
          <option key={id} value={base} />
        ))}
      </datalist>
      {way && <SignInSecret way={way} isKept={known !== undefined} secret={secret} onChange={setSecret} />}
      <p className="col-span-2">
        <button type="button" className="button" disabled={state === "running"} onClick={attempt}>
          {state === "running" ? "Asking …" : "Try"}
        </button>
      </p>
      <p role="alert" className="col-span-2 text-critical">
        {problem}
      </p>
      <div role="status" className="col-span-2 grid gap-2">
        {lines.map((line) => (
          <Found key={line.list} line={line} kind={kinds.find(({ name }) => name === line.list)} />
        ))}
      </div>
    </section>
  );
}

function Found({ line, kind }: { line: Line; kind: ListKind | undefined }) {
  return (
    <div>
      <p>
        <b className="font-semibold">{kind ? `${line.count} ${kind.words}` : "Nothing could be asked"}</b>
        {line.wrong.map((words) => (
          <span key={words} className="block text-critical">
            {words}
          </span>
        ))}
      </p>
      <ul className="ml-4 list-disc text-small">
        {line.rows.slice(0, 3).map((row) => (
          <li key={row.id} className="break-words">
            {Object.entries(row)
              .filter(([, value]) => value)
              .map(([name, value]) => `${name} ${value}`)
              .join(" · ")}
          </li>
        ))}
      </ul>
    </div>
  );
}
