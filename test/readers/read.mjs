// Reads files with readers from the npm registry and prints their rows, one
// JSON object a line: node read.mjs avro|parquet FILE...
import { readFileSync } from 'node:fs'
import avro from 'avsc'
import { parquetReadObjects } from 'hyparquet'
import { compressors } from 'hyparquet-compressors'
import { bare, long, plain } from './values.mjs'

const [kind, ...files] = process.argv.slice(2)

const print = (row) => process.stdout.write(JSON.stringify(row, plain) + '\n')

const readAvro = (file) => new Promise((resolve, reject) => {
  const options = { registry: { long }, wrapUnions: true }
  avro.createFileDecoder(file, { parseHook: (schema) => avro.Type.forSchema(schema, options) })
    .on('data', (row) => print(Object.fromEntries(Object.entries(row).map(([name, value]) => [name, bare(value)]))))
    .on('end', resolve)
    .on('error', reject)
})

for (const file of files) {
  if (kind === 'avro') {
    await readAvro(file)
  } else {
    const bytes = readFileSync(file)
    const view = bytes.buffer.slice(bytes.byteOffset, bytes.byteOffset + bytes.byteLength)
    for (const row of await parquetReadObjects({ file: view, compressors })) print(row)
  }
}
