<script setup lang="ts">
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import { useRoute } from 'vue-router'
import { api, ask, foreseen, made, Refusal, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useResellers } from '../../composables/useResellers'
import { useOperation } from '../../composables/useOperation'
import { useUnsaved } from '../../composables/useUnsaved'
import { amount, size } from '../../words'
import CustomerPick from '../../parts/CustomerPick.vue'
import LanguagePick from '../../parts/LanguagePick.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import PageHead from '../../parts/PageHead.vue'
import PlanPick from '../../parts/PlanPick.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'
import StepList from '../../parts/StepList.vue'
import KitAnswers from './KitAnswers.vue'
import { may } from '../session/state'
import { useDebounceFn } from '@vueuse/core'
import { t } from '../../language'
import { named } from '../../codes'

const route = useRoute()
const form = reactive({
  domain: String(route.query.domain ?? ''),
  signInName: '',
  plan: '',
  reseller: String(route.query.reseller ?? ''),
  customer: String(route.query.customer ?? ''),
  newCustomer: false,
  email: '',
  language: 'en',
  server: '',
  activation: 'none' as 'none' | 'link' | 'password',
  password: '',
  mustChange: true,
  readOnly: false,
  kit: '',
  answers: {} as Record<string, string>,
})
const wrong = reactive<Record<string, string>>({})
const check = shallowRef<Schemas['DomainCheck']>()
const ownName = ref(false)
const preview = shallowRef<Schemas['Preview']>()
const opening = shallowRef<Schemas['Opening']>()
const { refusal, busy, act } = useAct()
useUnsaved(() => Boolean(form.domain.trim()) && !opening.value)

const { data: servers } = useLoad(async () => (may('servers.read') ? ask(api.GET('/api/v1/servers')) : undefined))
const hasResellers = useResellers()
const plan = shallowRef<Schemas['Plan']>()
const planWords = computed(() => {
  const l = plan.value?.limits
  const counts = (['domains', 'mailboxes', 'databases'] as const).map(
    (key) => `${amount(l?.[key], 'count')} ${named(key)}`,
  )
  return l && [t('{disk} disk', { disk: amount(l.disk, 'bytes') }), ...counts].join(', ')
})

/** The kits that the plan offers, each with what its newest version asks. */
const { data: kits } = useLoad(async () => (may('kits.read') ? await ask(api.GET('/api/v1/kits')) : undefined))
const offered = computed(() =>
  (kits.value?.kits ?? [])
    .filter((k) => k.plans.includes(form.plan))
    .flatMap((k) =>
      k.versions
        .filter((v) => !v.withdrawn)
        .slice(0, 1)
        .map((v) => ({ ...k, asks: v.asks ?? [] })),
    ),
)
const kit = computed(() => offered.value.find((k) => k.name === form.kit))
watch(
  () => form.kit,
  () => (form.answers = Object.fromEntries((kit.value?.asks ?? []).map((a) => [a.name, a.default ?? '']))),
)

// What is typed is checked by the service a moment after the last key.
const soon = (act: () => Promise<void>) => useDebounceFn(act, 250)
async function tell(field: string, call: () => Promise<void>) {
  try {
    await call()
  } catch (err) {
    if (!(err instanceof Refusal)) throw err
    wrong[field] = err.message
  }
}
const checkDomain = soon(async () => {
  const typed = form.domain
  if (!typed.trim()) return
  await tell('domain', async () => {
    const found = await ask(api.GET('/api/v1/check/domain', { params: { query: { domain: typed } } }))
    if (typed !== form.domain) return
    check.value = found
    if (found.taken) wrong.domain = found.taken
    if (!ownName.value) form.signInName = found.sign_in_name
  })
})
const checkName = soon(async () => {
  const typed = form.signInName
  if (!typed || !ownName.value) return
  await tell('sign_in_name', async () => {
    await ask(api.GET('/api/v1/check/sign-in-name', { params: { query: { name: typed } } }))
  })
})
watch(
  () => form.domain,
  () => {
    check.value = undefined
    delete wrong.domain
    void checkDomain()
  },
)
watch(
  () => form.signInName,
  () => {
    delete wrong.sign_in_name
    void checkName()
  },
)
watch(
  () => form.reseller,
  () => {
    form.customer = form.plan = ''
  },
)
watch(
  () => [
    form.plan,
    form.reseller,
    form.customer,
    form.newCustomer,
    form.email,
    form.server,
    form.password,
    form.activation,
  ],
  () => {
    for (const field of ['plan', 'reseller', 'customer', 'customer_email', 'server', 'password']) delete wrong[field]
  },
)
watch(
  () => [form.kit, { ...form.answers }],
  () => {
    for (const field of Object.keys(wrong)) if (field === 'kit' || field.startsWith('answers.')) delete wrong[field]
  },
)
watch(form, () => (preview.value = undefined))

const complete = computed(() => form.domain.trim() && form.plan && form.customer.trim())
const body = computed(() => ({
  domain: form.domain,
  plan: form.plan,
  reseller: form.reseller || undefined,
  customer: form.customer.trim(),
  new_customer: form.newCustomer || undefined,
  customer_email: (form.newCustomer && form.email.trim()) || undefined,
  sign_in_name: (ownName.value && form.signInName) || undefined,
  server: form.server || undefined,
  language: form.newCustomer ? form.language : undefined,
  activation: form.activation,
  password: form.activation === 'password' ? form.password : undefined,
  must_change: (form.activation === 'password' && form.mustChange) || undefined,
  read_only: (form.activation !== 'none' && form.readOnly) || undefined,
  kit: kit.value ? { kit: kit.value.name, answers: form.answers } : undefined,
}))

async function submit(what: 'preview' | 'open') {
  await act(async () => {
    if (what === 'preview') {
      preview.value = await foreseen(
        api.POST('/api/v1/accounts', { params: { query: { preview: true } }, body: body.value }),
      )
    } else {
      preview.value = undefined
      opening.value = await made(api.POST('/api/v1/accounts', { body: body.value }))
    }
  }, what)
  // What concerns a field is told beside it.
  const known = [
    'domain',
    'sign_in_name',
    'plan',
    'reseller',
    'customer',
    'customer_email',
    'server',
    'password',
    'kit',
  ]
  const fields = (refusal.value?.problem.errors ?? []).filter(
    (f) => known.includes(f.name) || f.name.startsWith('answers.'),
  )
  for (const f of fields) wrong[f.name] = f.message
  if (fields.length) refusal.value = undefined
}

const { operation } = useOperation(computed(() => opening.value?.operation))
const failed = computed(() => operation.value?.state === 'failed')
function again() {
  opening.value = undefined
}
</script>

<template>
  <PageHead :title="opening ? $t('Opening {name}', { name: opening.account.name }) : $t('Open an account')">
    <template #above
      ><RouterLink to="/accounts">{{ $t('Accounts') }}</RouterLink></template
    >
  </PageHead>
  <div class="two">
    <form v-if="!opening" @submit.prevent="submit('open')">
      <FormField
        :label="$t('Domain')"
        for="domain"
        :error="wrong.domain"
        :hint="check ? undefined : $t('The main domain, such as ferries.example')"
      >
        <ElInput
          id="domain"
          v-model="form.domain"
          autofocus
          spellcheck="false"
          autocapitalize="none"
          autocomplete="off"
        />
        <ul v-if="check && !wrong.domain" class="notes">
          <li v-for="text in check.corrections" :key="text">{{ text }}</li>
          <li class="good">{{ $t('● {unicode} can be used', { unicode: check.unicode }) }}</li>
        </ul>
      </FormField>
      <FormField
        :label="$t('Sign-in name')"
        for="sign-in-name"
        :error="wrong.sign_in_name"
        :hint="$t('Proposed from the domain; 2 to 16 lower-case letters and digits. It cannot be changed later.')"
      >
        <ElInput
          id="sign-in-name"
          v-model="form.signInName"
          spellcheck="false"
          autocapitalize="none"
          autocomplete="off"
          maxlength="16"
          @input="ownName = form.signInName !== ''"
        />
      </FormField>
      <FormField :label="$t('Plan')" for="plan" :error="wrong.plan" :hint="planWords">
        <PlanPick
          id="plan"
          v-model="form.plan"
          :whose="form.reseller"
          :placeholder="$t('Choose a plan')"
          @plan="(p) => (plan = p)"
        />
      </FormField>
      <FormField v-if="hasResellers" :label="$t('Whose customer')" for="reseller" :error="wrong.reseller">
        <ResellerPick id="reseller" v-model="form.reseller" :placeholder="$t(`The operator's own`)" />
      </FormField>
      <FormField :label="$t('Customer')" for="customer" :error="wrong.customer">
        <ElInput
          v-if="form.newCustomer"
          id="customer"
          v-model="form.customer"
          :placeholder="$t('Name of the new customer')"
          autocomplete="off"
        />
        <CustomerPick v-else id="customer" v-model="form.customer" :reseller="form.reseller" />
        <ElCheckbox v-model="form.newCustomer" @change="form.customer = ''">{{ $t('A new customer') }}</ElCheckbox>
      </FormField>
      <div v-if="form.newCustomer" class="pair">
        <FormField
          :label="$t('Contact address')"
          for="email"
          :error="wrong.customer_email"
          :hint="$t('Mail address for notices')"
        >
          <ElInput id="email" v-model="form.email" type="email" autocomplete="off" />
        </FormField>
        <FormField :label="$t('Language of notices')" for="language"
          ><LanguagePick id="language" v-model="form.language"
        /></FormField>
      </div>
      <FormField
        :label="$t('Console sign-in')"
        for="activation"
        :hint="
          form.activation === 'none'
            ? $t('The customer gets none with this account')
            : $t('As {what}', { what: form.signInName || $t('the sign-in name') })
        "
      >
        <ElSelect id="activation" v-model="form.activation">
          <ElOption value="none" :label="$t('none, or they have one')" />
          <ElOption value="link" :label="$t('mail a link to choose a password')" />
          <ElOption value="password" :label="$t('set a first password here')" />
        </ElSelect>
      </FormField>
      <template v-if="form.activation !== 'none'">
        <NewPassword
          v-if="form.activation === 'password'"
          id="first-password"
          v-model="form.password"
          :about="[form.signInName, form.domain, form.customer, form.email]"
          :error="wrong.password"
          :label="$t('First password')"
        />
        <ElCheckbox v-if="form.activation === 'password'" v-model="form.mustChange">{{
          $t('Has to be changed at the first sign-in')
        }}</ElCheckbox>
        <ElCheckbox v-model="form.readOnly">{{ $t('Read-only: may look, not change') }}</ElCheckbox>
      </template>
      <FormField
        v-if="servers"
        :label="$t('Server')"
        for="server"
        :error="wrong.server"
        :hint="form.server ? undefined : $t('Without a choice, the one with most room')"
      >
        <ElSelect id="server" v-model="form.server" clearable :placeholder="$t('Choose by room')">
          <ElOption
            v-for="s in servers.servers"
            :key="s.label"
            :value="s.label"
            :disabled="!s.open || s.state !== 'joined'"
          >
            {{ s.label }}
            <span class="quiet">{{
              s.open
                ? $t('{accounts} accounts, {disk_free} free', {
                    accounts: s.accounts,
                    disk_free: size(s.health?.disk_free),
                  })
                : $t('closed to new accounts')
            }}</span>
          </ElOption>
        </ElSelect>
      </FormField>
      <FormField
        v-if="offered.length"
        :label="$t('Begin with a kit')"
        for="kit"
        :error="wrong.kit"
        :hint="kit?.about ?? $t('Without one, the site has the page of a new site')"
      >
        <ElSelect id="kit" v-model="form.kit" clearable :placeholder="$t('none')">
          <ElOption v-for="k in offered" :key="k.name" :value="k.name" :label="k.title" />
        </ElSelect>
      </FormField>
      <KitAnswers v-if="kit" v-model="form.answers" :asks="kit.asks" :error="(field) => wrong[field]" />
      <ProblemNote :refusal="refusal" />
      <div class="acts">
        <ElButton native-type="submit" type="primary" :disabled="!complete || busy !== ''" :loading="busy === 'open'">{{
          $t('Open the account')
        }}</ElButton>
        <ElButton :disabled="!complete || busy !== ''" :loading="busy === 'preview'" @click="submit('preview')">{{
          $t('Preview')
        }}</ElButton>
      </div>
    </form>
    <section v-if="opening" class="steps" :aria-label="$t('Steps')">
      <p class="quiet">
        <i18n-t keypath="As {name} on {server}." scope="global" tag="span"
          ><template #name
            ><code>{{ opening.account.sign_in_name }}</code></template
          ><template #server>{{ opening.account.server }}</template></i18n-t
        >
        {{ opening.placement }}
      </p>
      <ul v-if="opening.corrections?.length" class="notes">
        <li v-for="text in opening.corrections" :key="text">{{ text }}</li>
      </ul>
      <StepList v-if="operation" :operation="operation" />
      <div class="acts">
        <RouterLink v-if="operation?.state === 'done'" :to="`/accounts/${opening.account.sign_in_name}`" class="go">{{
          $t('Go to the account')
        }}</RouterLink>
        <RouterLink v-if="operation?.state === 'done'" :to="`/accounts/${opening.account.sign_in_name}/handover`">{{
          $t('Handover sheet')
        }}</RouterLink>
        <ElButton v-if="failed" @click="again">{{ $t('Back to the form') }}</ElButton>
      </div>
    </section>
    <PreviewNote v-if="preview" :preview="preview" />
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 30rem) minmax(0, 1fr);
  gap: 2rem;
  align-items: start;
}
form {
  display: grid;
  gap: 0.95rem;
}
.good {
  color: var(--ink);
}
.steps {
  grid-column: 1 / -1;
  max-width: 60rem;
}
.go {
  font-weight: 600;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
