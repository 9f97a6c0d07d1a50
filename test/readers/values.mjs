import avro from 'avsc'

export const plain = (_, value) => {
  if (typeof value === 'bigint') return value.toString()
  if (value instanceof Uint8Array) return Buffer.from(value).toString('base64')
  return value
}

// A long is read as a bigint: 9007199254740993 must not be rounded.
export const long = avro.types.LongType.__with({
  fromBuffer: (buf) => buf.readBigInt64LE(),
  toBuffer: (n) => { const b = Buffer.alloc(8); b.writeBigInt64LE(n); return b },
  fromJSON: BigInt,
  toJSON: String,
  isValid: (n) => typeof n === 'bigint',
  compare: (a, b) => (a < b ? -1 : a > b ? 1 : 0),
})

// The value of a union without its branch's name.
export const bare = (value) => {
  if (value === null || typeof value !== 'object' || Buffer.isBuffer(value)) return value
  if (Array.isArray(value)) return value.map(bare)
  return bare(Object.values(value)[0])
}
