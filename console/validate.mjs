// Holds docs/openapi.json against the schema of OpenAPI 3.1.
import { Validator } from '@seriousme/openapi-schema-validator'

const validator = new Validator()
const { valid, errors } = await validator.validate(new URL('../docs/openapi.json', import.meta.url).pathname)
if (!valid) {
  console.error('docs/openapi.json is not valid OpenAPI:', errors)
  process.exit(1)
}
console.log(`docs/openapi.json is valid OpenAPI ${validator.version}`)
