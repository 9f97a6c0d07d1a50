import { Form } from "react-bootstrap";

/** periods that can be shown, in minutes; the service keeps the last hour. */
const periods = [10, 30, 60];

/** Period chooses how far back is looked, in minutes. */
export function Period({ value, onChange }: { value: number; onChange: (minutes: number) => void }) {
  return (
    <Form.Select size="sm" className="period" aria-label="Period" value={value} onChange={(e) => onChange(Number(e.target.value))}>
      {periods.map((n) => (
        <option key={n} value={n}>
          last {n} minutes
        </option>
      ))}
    </Form.Select>
  );
}
