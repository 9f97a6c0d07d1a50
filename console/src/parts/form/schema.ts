/** Schema is a JSON Schema as the service gives it, with what it says besides under x-. */
export interface Schema {
  type?: string;
  title?: string;
  description?: string;
  format?: string;
  enum?: string[];
  default?: unknown;
  examples?: unknown[];
  minimum?: number;
  maximum?: number;
  maxLength?: number;
  pattern?: string;
  properties?: Record<string, Schema>;
  required?: string[];
  items?: Schema;
  additionalProperties?: Schema | boolean;
  "x-order"?: number;
  "x-advanced"?: boolean;
  "x-unit"?: string;
  "x-when"?: string;
  "x-instead"?: string;
}

/** Section is a definition, or a part of one. */
export type Section = Record<string, unknown>;

/** Field is a field of a section, with its name. */
export type Field = readonly [name: string, schema: Schema];

/** isPart says whether a field is a section of its own. */
export const isPart = (schema: Schema) => schema.type === "object" && schema.properties !== undefined;

/** isList says whether a field is a list of sections. */
export const isList = (schema: Schema) => schema.type === "array" && schema.items?.properties !== undefined;

/** applies says whether a field means something, as its section stands: one that needs
 * another field needs it, and one that another stands in for is not asked for. */
export function applies([name, field]: Field, section: Section, schema: Schema): boolean {
  for (const [other, its] of Object.entries(schema.properties ?? {})) {
    if (its["x-instead"] === name && section[other] !== undefined) {
      return false;
    }
  }
  if (!field["x-when"]) {
    return true;
  }
  const [needed = "", wanted] = field["x-when"].split("=");
  const value = section[needed] ?? schema.properties?.[needed]?.default;
  return wanted === undefined ? Boolean(value) : value === wanted;
}

/** isRequired says whether a section is wrong without the field. */
export function isRequired(name: string, section: Section, schema: Schema): boolean {
  const others = Object.entries(schema.properties ?? {}).filter(([, its]) => its["x-instead"] === name);
  return Boolean(schema.required?.includes(name)) || (others.length > 0 && others.every(([other]) => section[other] === undefined));
}

/** fieldsOf are the fields that a person is asked for, in their order. */
export const fieldsOf = (schema: Schema): Field[] =>
  Object.entries(schema.properties ?? {})
    .filter(([, field]) => field["x-order"] !== undefined)
    .sort(([, a], [, b]) => a["x-order"]! - b["x-order"]!);

/** isSet says whether a field holds anything but what holds without it. */
export function isSet(field: Schema, value: unknown): boolean {
  if (value === undefined || value === field.default) {
    return false;
  }
  if (isPart(field) && field.default === undefined) {
    const parts = Object.entries(field.properties!);
    return !parts.some(([, its]) => its.default !== undefined) || parts.some(([name, its]) => isSet(its, (value as Section)[name]));
  }
  return true;
}

/** put is a section with another value of a field; one that is empty is left out. */
export function put(section: Section, name: string, value: unknown): Section {
  const next = { ...section, [name]: value };
  if (value === undefined || value === "" || (Array.isArray(value) && value.length === 0)) {
    Reflect.deleteProperty(next, name);
  }
  return next;
}

/** words takes a list apart that a person typed with spaces or commas. */
export const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** pairs reads lines of names and values. */
export function pairs(text: string): Record<string, string> | undefined {
  const found = text
    .split("\n")
    .map((line) => line.split(/:\s*(.*)/s))
    .filter(([name]) => name?.trim());
  return found.length ? Object.fromEntries(found.map(([name, value]) => [name!.trim(), value ?? ""])) : undefined;
}

/** matches says whether a pattern of tables matches a table, for patterns without
 * quoted parts: * stands for any characters, ? for one, and a pattern without a dot
 * means the schema public. */
export function matches(pattern: string, table: string): boolean {
  if (pattern === "*") {
    return true;
  }
  const whole = pattern.includes(".") ? pattern : `public.${pattern}`;
  const expression = whole
    .replace(/[\\^$.|+()[\]{}]/g, "\\$&")
    .replaceAll("*", ".*")
    .replaceAll("?", ".");
  return whole === table || new RegExp(`^${expression}$`, "s").test(table);
}
