// Decodes one Avro message with a reader from the npm registry: node message.mjs
// ADDRESS FILE. The schema is looked up by what the message begins with.
import { readFileSync } from 'node:fs'
import avro from 'avsc'
import { bare, long, plain } from './values.mjs'

const [address, file] = process.argv.slice(2)
const message = readFileSync(file)
let schema, value
if (message[0] === 0xc3 && message[1] === 0x01) {
  const fingerprint = Buffer.from(message.subarray(2, 10)).reverse().toString('hex')
  schema = await (await fetch(`${address}/v1/avro-schemas/${fingerprint}`)).json()
  value = message.subarray(10)
} else if (message[0] === 0) {
  const found = await (await fetch(`${address}/schemas/ids/${message.readUInt32BE(1)}`)).json()
  schema = JSON.parse(found.schema)
  value = message.subarray(5)
} else {
  throw new Error('no frame that we know')
}
const row = avro.Type.forSchema(schema, { registry: { long }, wrapUnions: true }).fromBuffer(value)
process.stdout.write(JSON.stringify(Object.fromEntries(Object.entries(row).map(([name, v]) => [name, bare(v)])), plain))
