import { Form } from "react-bootstrap";
import type { Destination } from "../../api/types";

type Kind = Destination["kind"];

/** emptyDestination is a destination of a kind before anything is typed. */
export function emptyDestination(kind: Kind): Destination {
  switch (kind) {
    case "kafka":
      return { kind, kafka: { brokers: [""] } };
    case "nats":
      return { kind, nats: { servers: [""] } };
    case "redis":
      return { kind, redis: { address: "" } };
    case "http":
      return { kind, http: { url: "" } };
    default:
      return { kind, file: { directory: "" } };
  }
}

interface Field {
  id: string;
  label: string;
  placeholder?: string;
  secret?: boolean;
  required?: boolean;
  get: (d: Destination) => string;
  set: (d: Destination, value: string) => Destination;
}

const lines = (text: string) => text.split(/[\s,]+/).filter(Boolean);

const fields: Record<Kind, Field[]> = {
  file: [
    {
      id: "directory",
      label: "Directory, below the service's files_root",
      placeholder: "archive",
      required: true,
      get: (d) => d.file?.directory ?? "",
      set: (d, v) => ({ ...d, file: { directory: v } }),
    },
  ],
  kafka: [
    {
      id: "brokers",
      label: "Brokers, host:port",
      placeholder: "127.0.0.1:9092",
      required: true,
      get: (d) => d.kafka!.brokers.join(" "),
      set: (d, v) => ({ ...d, kafka: { ...d.kafka!, brokers: lines(v) } }),
    },
    {
      id: "partitions",
      label: "Create missing topics with so many partitions; empty: do not",
      get: (d) => String(d.kafka?.create_topics?.partitions ?? ""),
      set: (d, v) => ({ ...d, kafka: { ...d.kafka!, create_topics: Number(v) > 0 ? { partitions: Number(v), replication: 1 } : undefined } }),
    },
    {
      id: "user",
      label: "User, for SCRAM-SHA-512",
      get: (d) => d.kafka?.login?.user ?? "",
      set: (d, v) => ({ ...d, kafka: { ...d.kafka!, login: v ? { mechanism: "scram-sha-512", password: d.kafka?.login?.password ?? "", user: v } : undefined } }),
    },
    {
      id: "password",
      label: "Password, or a reference to it",
      secret: true,
      get: (d) => d.kafka?.login?.password ?? "",
      set: (d, v) => ({ ...d, kafka: { ...d.kafka!, login: { mechanism: "scram-sha-512", user: d.kafka?.login?.user ?? "", password: v } } }),
    },
  ],
  nats: [
    {
      id: "servers",
      label: "Servers",
      placeholder: "nats://127.0.0.1:4222",
      required: true,
      get: (d) => d.nats!.servers.join(" "),
      set: (d, v) => ({ ...d, nats: { ...d.nats!, servers: lines(v) } }),
    },
    {
      id: "stream",
      label: "Create this stream where it is missing; empty: do not",
      get: (d) => d.nats?.stream ?? "",
      set: (d, v) => ({ ...d, nats: { ...d.nats!, stream: v || undefined, create_stream: v ? true : undefined } }),
    },
    { id: "user", label: "User", get: (d) => d.nats?.user ?? "", set: (d, v) => ({ ...d, nats: { ...d.nats!, user: v || undefined } }) },
    { id: "password", label: "Password, or a reference to it", secret: true, get: (d) => d.nats?.password ?? "", set: (d, v) => ({ ...d, nats: { ...d.nats!, password: v || undefined } }) },
  ],
  redis: [
    { id: "address", label: "Address, host:port", placeholder: "127.0.0.1:6379", required: true, get: (d) => d.redis?.address ?? "", set: (d, v) => ({ ...d, redis: { ...d.redis!, address: v } }) },
    { id: "user", label: "User", get: (d) => d.redis?.user ?? "", set: (d, v) => ({ ...d, redis: { ...d.redis!, user: v || undefined } }) },
    { id: "password", label: "Password, or a reference to it", secret: true, get: (d) => d.redis?.password ?? "", set: (d, v) => ({ ...d, redis: { ...d.redis!, password: v || undefined } }) },
  ],
  http: [
    {
      id: "url",
      label: "Address that takes events by POST",
      placeholder: "https://desk.example/events",
      required: true,
      get: (d) => d.http?.url ?? "",
      set: (d, v) => ({ ...d, http: { ...d.http!, url: v } }),
    },
    {
      id: "sign-key",
      label: "Key for signing, or a reference to it",
      placeholder: "${env:RILLMARK_SECRET_SIGN_KEY}",
      secret: true,
      get: (d) => d.http?.sign_key ?? "",
      set: (d, v) => ({ ...d, http: { ...d.http!, sign_key: v || undefined } }),
    },
    { id: "token", label: "Bearer token, or a reference to it", secret: true, get: (d) => d.http?.token ?? "", set: (d, v) => ({ ...d, http: { ...d.http!, token: v || undefined } }) },
  ],
};

/** DestinationFields are how a destination is reached. A secret typed here is
 * sealed, and never shown again. */
export function DestinationFields({ destination, onChange }: { destination: Destination; onChange: (d: Destination) => void }) {
  return (
    <div className="rule-line">
      <Form.Group controlId="kind">
        <Form.Label>Kind</Form.Label>
        <Form.Select size="sm" value={destination.kind} onChange={(e) => onChange(emptyDestination(e.target.value as Kind))}>
          <option value="file">files</option>
          <option value="kafka">a broker of the Kafka protocol</option>
          <option value="nats">NATS JetStream</option>
          <option value="redis">Redis streams</option>
          <option value="http">an HTTP function</option>
        </Form.Select>
      </Form.Group>
      {fields[destination.kind].map((field) => (
        <Form.Group key={field.id} controlId={field.id} className="wide">
          <Form.Label>{field.label}</Form.Label>
          <Form.Control
            size="sm"
            type={field.secret ? "password" : "text"}
            autoComplete={field.secret ? "new-password" : "off"}
            required={field.required}
            placeholder={field.placeholder}
            value={field.get(destination)}
            onChange={(e) => onChange(field.set(destination, e.target.value))}
          />
        </Form.Group>
      ))}
    </div>
  );
}
