// Completes package-lock.json after npm install. Some registries carry only the
// Linux builds of packages that come in one build for each platform; npm then
// leaves the others out of the lock, and npm ci refuses it. They are written in
// here without a hash: on Linux they are never fetched.
import { readFileSync, writeFileSync } from 'node:fs'

const lock = JSON.parse(readFileSync('package-lock.json', 'utf8'))
const systems = ['android', 'darwin', 'freebsd', 'linux', 'netbsd', 'openbsd', 'openharmony', 'sunos', 'win32', 'aix']
const processors = ['arm64', 'arm', 'x64', 'ia32', 'riscv64', 'ppc64', 's390x', 'loong64', 'wasm32']

for (const [parent, entry] of Object.entries(lock.packages)) {
  delete entry.resolved // from whatever registry is set
  for (const [name, version] of Object.entries(entry.optionalDependencies ?? {})) {
    const path = `node_modules/${name}`
    if (parent === '' || lock.packages[path] || lock.packages[`${parent}/${path}`]) continue
    const parts = name.split(/[/-]/)
    lock.packages[path] = {
      version: version.replace(/^[~^]/, ''),
      ...pick('cpu', processors, parts),
      ...pick('os', name.includes('wasm') ? ['wasi'] : systems, name.includes('wasm') ? ['wasi'] : parts),
      ...(parts.includes('musl') ? { libc: ['musl'] } : parts.includes('gnu') ? { libc: ['glibc'] } : {}),
      ...(entry.dev ? { dev: true } : {}),
      optional: true,
    }
  }
}

function pick(field, known, parts) {
  const found = known.filter((k) => parts.includes(k))
  return found.length > 0 ? { [field]: found } : {}
}

lock.packages = Object.fromEntries(Object.entries(lock.packages).sort(([a], [b]) => (a < b ? -1 : 1)))
writeFileSync('package-lock.json', `${JSON.stringify(lock, null, 2)}\n`)
