// Reads a pull outlet and commits what is dealt with. Node 20, nothing to install.
//
//     RILLMARK_SERVER=http://127.0.0.1:7450 node consume.mjs desk
//
// With --once it ends when it has caught up, for a schedule.

const server = process.env.RILLMARK_SERVER ?? 'http://127.0.0.1:7450'
const token = process.env.RILLMARK_TOKEN
const [outlet, ...flags] = process.argv.slice(2)
const once = flags.includes('--once')

async function call(path, body) {
  const answer = await fetch(server + path, {
    method: body ? 'POST' : 'GET',
    headers: { 'Content-Type': 'application/json', ...(token && { Authorization: `Bearer ${token}` }) },
    body: body && JSON.stringify(body),
  })
  if (!answer.ok) throw new Error(`${path}: ${answer.status} ${await answer.text()}`)
  return answer.json()
}

// Yours. A repeat has the id of the first time. JSON.parse rounds integers above
// 2^53: with `integers: text` in the outlet they come as strings.
function dealWith(event) {
  const { operation, table = '', key } = event.data
  console.log(event.id, operation, table, JSON.stringify(key))
}

for (;;) {
  // Waits up to 20 seconds for a first event; the offset does not move.
  const page = await call(`/v1/outlets/${outlet}/events?limit=500&wait=${once ? 0 : 20}`)
  for (const event of page.events) dealWith(event)
  if (page.passed > page.committed) await call(`/v1/outlets/${outlet}/commit`, { committed: page.passed })
  else if (once) break
}
