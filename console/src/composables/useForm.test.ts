import { nextTick, ref } from 'vue'
import { describe, expect, it, vi } from 'vitest'
import { Refusal } from '../api/client'
import { useForm } from './useForm'

vi.mock('../api/client', () => ({
  Refusal: class extends Error {
    constructor(readonly problem: { errors?: { name: string; message: string }[] }) {
      super('refused')
    }
    field(name: string) {
      return this.problem.errors?.find((e) => e.name === name)?.message
    }
  },
}))

const refused = (...names: string[]) =>
  new Refusal({ errors: names.map((name) => ({ name, message: `${name} is wrong` })) } as never)

describe('useForm', () => {
  it('knows whether something was typed', () => {
    const { form, dirty, reset } = useForm(() => ({ name: '', tags: [] as string[] }))
    expect(dirty.value).toBe(false)
    form.tags.push('a')
    expect(dirty.value).toBe(true)
    reset({ name: 'tern' })
    expect(form).toEqual({ name: 'tern', tags: [] })
    expect(dirty.value).toBe(false)
  })

  it('begins anew when its dialog opens or closes', async () => {
    const shown = ref(true)
    const { form } = useForm(() => ({ name: '' }), shown)
    form.name = 'tern'
    shown.value = false
    await nextTick()
    expect(form.name).toBe('')
    form.name = 'tern'
    shown.value = true
    await nextTick()
    expect(form.name).toBe('')
  })

  it('opens its dialog with what is on record', async () => {
    const shown = ref(false)
    const { form, dirty, openWith } = useForm(() => ({ name: '', kind: 'boat' }), shown)
    await openWith({ name: 'tern' })
    expect(shown.value).toBe(true)
    expect(form).toEqual({ name: 'tern', kind: 'boat' })
    expect(dirty.value).toBe(false)
  })

  it('has a preview of what is typed only', async () => {
    const { form, preview, loadPreview } = useForm(() => ({ name: '' }))
    await loadPreview(() => Promise.resolve({ summary: 'would be added' } as never))
    expect(preview.value).toEqual({ summary: 'would be added' })
    form.name = 'tern'
    await nextTick()
    expect(preview.value).toBeUndefined()
  })

  it('says once what is wrong: beside the field where it has one', async () => {
    const { act, error, general, refusal } = useForm(() => ({ name: '' }))
    expect(error('name')).toBeUndefined()
    await act(() => Promise.reject(refused('name')))
    expect(error('name')).toBe('name is wrong')
    expect(general.value).toBeUndefined()
    await act(() => Promise.reject(refused('name', 'elsewhere')))
    expect(general.value).toBe(refusal.value)
    await act(() => Promise.reject(refused()))
    expect(general.value).toBe(refusal.value)
    await act(() => Promise.resolve())
    expect(general.value).toBeUndefined()
  })
})
