// Holds the console's texts to its catalogues (src/languages): `node texts.mjs` tells texts in the code that are not
// looked up, and texts that a catalogue lacks, has without need, or has with other values than the English ones.
// `node texts.mjs --add` adds what is missing to each catalogue, in English, and drops what is not used.
import fs from 'node:fs'
import path from 'node:path'
import ts from 'typescript'
import { parse } from '@vue/compiler-sfc'

const source = path.join(import.meta.dirname, 'src')
const letters = /\p{L}{2}/u

/** Attributes and properties of components that people read. */
const readAttributes = new Set(
  'label aria-label title placeholder caption hint about alt active-text inactive-text below what name'.split(' '),
)
/** Of these, the name is a text; elsewhere it is an identifier. */
const namedByText = new Set(['StripFact'])
/** Elements whose content is the same in every language. */
const verbatim = new Set(['code', 'pre', 'kbd'])
/** What looks like a text and is none: the product's name, sample data, styles, names of protocols. */
const notTexts = [
  /^Victualler$/,
  / · Victualler$/,
  /\.(example|test)\b/,
  /^sites\/…$/,
  /^(STARTTLS|TLS|TTL|Edge?|Opera)$/,
  /^-----BEGIN /,
  /^\/logs\/$|^\.log$/,
  / TXT | IN A |^0 issue "|^ssh-ed25519 |^index\.php, /,
  /^color-mix\(|^\((max|min)-width|^victualler-agent /,
]

/** Whether a string reads like a text: several words, or a word with a capital. */
const readsLikeText = (s) =>
  (/\p{L}+[ ,;:.…].*\p{L}/su.test(s) && / /.test(s) && !/^[\w-]+(: ?[\w%.-]+)+;?$/.test(s)) ||
  /^\p{Lu}\p{Ll}+([ …!?.].*)?$/u.test(s)

const isText = (s) => letters.test(s) && !notTexts.some((pattern) => pattern.test(s))

/** Properties whose values are identifiers. */
const codeProperties =
  /^(class|id|type|key|path|state|unit|component|to|permission|group|kind|role|query|style|method)$/

function isCode(node) {
  const p = node.parent
  if (ts.isImportDeclaration(p) || ts.isExportDeclaration(p) || ts.isCaseClause(p)) return true
  if (ts.isElementAccessExpression(p) || ts.isTaggedTemplateExpression(p)) return true
  if (ts.isBinaryExpression(p) && /^([!=]==?|in)$/.test(p.operatorToken.getText())) return true
  if (ts.isPropertyAssignment(p) && (p.name === node || codeProperties.test(p.name.getText()))) return true
  for (let a = p; a; a = a.parent) {
    if (ts.isTypeNode(a) || ts.isTypeAliasDeclaration(a) || ts.isInterfaceDeclaration(a)) return true
    if (ts.isNewExpression(a) && /Error|Intl/.test(a.expression.getText())) return true
    if (
      ts.isCallExpression(a) &&
      /^(api\.\w+|super|amount|size)$|\.(join|split|replace|replaceAll|closest|querySelector|startsWith)$/.test(
        a.expression.getText(),
      )
    )
      return true
  }
  return false
}

/** Whether the value of a literal is what people read: of an interpolation, or of a column's text. */
function isSaid(node, template) {
  let at = node
  for (;;) {
    const p = at.parent
    if (ts.isConditionalExpression(p) && p.condition === at) return false
    const passes =
      ts.isConditionalExpression(p) ||
      ts.isParenthesizedExpression(p) ||
      ts.isTemplateSpan(p) ||
      ts.isTemplateExpression(p) ||
      (ts.isBinaryExpression(p) && /^(\|\||\?\?|\+)$/.test(p.operatorToken.getText()))
    if (!passes) {
      if (ts.isExpressionStatement(p)) return template
      const owner = ts.isArrowFunction(p) && p.body === at ? p.parent : p
      return ts.isPropertyAssignment(owner) && /^(text|title|label)$/.test(owner.name.getText())
    }
    at = p
  }
}

const isLookup = (node) => ts.isCallExpression(node) && /^\$?t$/.test(node.expression.getText())
const isString = (node) => ts.isStringLiteral(node) || ts.isNoSubstitutionTemplateLiteral(node)

/** Finds the texts of all files: those that are looked up, and where some are not. */
function findTexts() {
  const texts = new Set()
  const faults = []

  function inExpression(code, file, read, template) {
    const visit = (node) => {
      if (isLookup(node)) {
        const [text, values] = node.arguments
        if (text && isString(text)) texts.add(text.text)
        else faults.push(`${file}: what is looked up is no plain text: ${node.getText()}`)
        if (values) visit(values)
        return
      }
      const parts = isString(node)
        ? [node.text]
        : ts.isTemplateExpression(node)
          ? [node.head.text, ...node.templateSpans.map((span) => span.literal.text)]
          : undefined
      const whole = parts?.join('{}')
      if (whole && isText(whole) && !isCode(node))
        if (
          read ||
          isSaid(node, template) ||
          (isString(node) ? readsLikeText(whole) : /(^|\s)\p{L}{2,}\s|\s\p{L}{2,}(\s|$)/u.test(whole))
        )
          faults.push(`${file}: text that is not looked up: ${node.getText()}`)
      ts.forEachChild(node, visit)
    }
    visit(ts.createSourceFile('x.ts', code, ts.ScriptTarget.Latest, true, ts.ScriptKind.TS))
  }

  function inTemplate(node, file) {
    if (node.type === 2 && isText(node.content.trim()))
      faults.push(`${file}: text that is not looked up: ${node.content.trim()}`)
    if (node.type === 5) inExpression(node.content.loc.source, file, false, true)
    if (node.type === 1) {
      const isRead = (name) => readAttributes.has(name) && (name !== 'name' || namedByText.has(node.tag))
      for (const p of node.props) {
        if (p.type === 6 && p.name === 'keypath') texts.add(p.value.content)
        else if (p.type === 6 && p.value && isRead(p.name) && isText(p.value.content))
          faults.push(`${file}: text that is not looked up: ${p.name}="${p.value.content}"`)
        else if (p.type === 7 && p.exp && p.name !== 'for' && p.name !== 'slot')
          inExpression(
            p.exp.loc.source,
            file,
            p.name === 'bind' && isRead(p.arg?.content) && /['"`]/.test(p.exp.loc.source[0]),
          )
      }
      if (verbatim.has(node.tag)) return
    }
    for (const child of node.children ?? []) inTemplate(child, file)
  }

  for (const name of fs.readdirSync(source, { recursive: true })) {
    if (!/\.(vue|ts)$/.test(name) || /\.test\.ts$|schema\.d\.ts$/.test(name)) continue
    const code = fs.readFileSync(path.join(source, name), 'utf8')
    if (name.endsWith('.ts')) {
      inExpression(code, name)
      continue
    }
    const { descriptor } = parse(code)
    inExpression(descriptor.scriptSetup?.content ?? '', name)
    if (descriptor.template) inTemplate(descriptor.template.ast, name)
  }
  return { texts, faults }
}

const values = (text) => [...new Set(text.match(/\{\w+\}/g))].sort().join(' ')

const { texts, faults } = findTexts()
const directory = path.join(source, 'languages')
// vue-i18n takes an @ for a link to another text: such a text would be shown to nobody.
for (const text of texts) if (text.includes('@')) faults.push(`an @ has a meaning of its own in texts: ${text}`)
for (const name of fs.readdirSync(directory)) {
  const file = path.join(directory, name)
  let catalogue = JSON.parse(fs.readFileSync(file, 'utf8'))
  if (process.argv.includes('--add')) {
    catalogue = Object.fromEntries([...texts].sort().map((text) => [text, catalogue[text] ?? '']))
    fs.writeFileSync(file, JSON.stringify(catalogue, null, 2) + '\n')
  }
  for (const text of texts) {
    if (!catalogue[text]) faults.push(`${name}: lacks: ${text}`)
    else if (values(text) !== values(catalogue[text])) faults.push(`${name}: has other values: ${text}`)
  }
  for (const text of Object.keys(catalogue)) if (!texts.has(text)) faults.push(`${name}: is not used: ${text}`)
}
console.log(faults.join('\n'))
process.exitCode = faults.length ? 1 : 0
