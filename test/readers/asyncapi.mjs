// Holds an AsyncAPI document against the specification's own schema, and events
// against the document: node asyncapi.mjs DOCUMENT EVENTS, one event a line.
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import Draft7 from 'ajv'
import Draft2020 from 'ajv/dist/2020.js'
import formats from 'ajv-formats'

const [documentFile, eventsFile] = process.argv.slice(2)
const require = createRequire(import.meta.url)
const document = JSON.parse(readFileSync(documentFile, 'utf8'))
const fail = (what, errors) => {
  console.error(what, JSON.stringify(errors, null, 1))
  process.exit(1)
}

const specification = new Draft7.default({ strict: false, meta: false }) // it brings its own meta-schema
formats.default(specification)
const conforms = specification.compile(require('@asyncapi/specs/schemas/3.0.0.json'))
if (!conforms(document)) fail('the document is no AsyncAPI 3:', conforms.errors)

const reader = new Draft2020.default({ strict: false })
formats.default(reader)
reader.addSchema(document, 'document')
const messages = Object.fromEntries(Object.keys(document.components.messages).map((name) => [name, reader.compile({ $ref: `document#/components/messages/${name}/payload` })]))
let held = 0
for (const line of readFileSync(eventsFile, 'utf8').split('\n').filter(Boolean)) {
  const event = JSON.parse(line)
  const valid = messages[event.subject]
  if (!valid) fail(`no message for ${event.subject}`, Object.keys(messages))
  if (!valid(event)) fail(`the event ${event.id} is not as the document says:`, valid.errors)
  held++
}
console.log(held)
