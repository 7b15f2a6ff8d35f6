import { useQuery } from "@tanstack/react-query";
import { deviceTestsQuery } from "../../api/pathQueries";
import { devicesQuery } from "../../api/queries";
import { Labelled } from "../../components/Field";

type Props = {
  device: number | null;
  asked: string;
  onDevice: (device: number | null) => void;
  onTest: (asked: string, address: string) => void;
};

/** Which device measures, and which of the tests that it has; the device is asked for them when it is chosen. */
export function DeviceTest({ device, asked, onDevice, onTest }: Props) {
  const { data: devices } = useQuery(devicesQuery(null, {}));
  const { data: told, error, isFetching } = useQuery(deviceTestsQuery(device));
  const tests = told?.tests ?? [];
  const isKept = asked !== "" && !tests.some(({ owner, name }) => `${owner}/${name}` === asked);
  return (
    <>
      <Labelled label="Device" hint="that makes the test">
        <select
          className="field"
          required
          value={device ?? ""}
          onChange={(event) => onDevice(event.target.value ? Number(event.target.value) : null)}
        >
          <option value="">none</option>
          {devices?.rows.map(({ id, name }) => (
            <option key={id} value={id}>
              {name}
            </option>
          ))}
        </select>
      </Labelled>
      <Labelled label="Test" hint={isFetching ? "the device is being asked" : "owner and name"}>
        <select
          className="field"
          required
          value={asked}
          onChange={(event) => {
            const test = tests.find(({ owner, name }) => `${owner}/${name}` === event.target.value);
            onTest(event.target.value, test && /^[0-9a-f.:]+$/i.test(test.target) ? test.target : "");
          }}
        >
          <option value="">none</option>
          {isKept && <option value={asked}>{asked}</option>}
          {tests.map(({ owner, name, target }) => (
            <option key={`${owner}/${name}`} value={`${owner}/${name}`}>
              {owner}: {name} to {target}
            </option>
          ))}
        </select>
        <span role="alert" className="text-critical">
          {error?.message ?? told?.fault}
        </span>
        {told && !told.fault && tests.length === 0 && (
          <span className="text-ink2">It has no tests of DISMAN-PING-MIB, or does not show them.</span>
        )}
      </Labelled>
    </>
  );
}
