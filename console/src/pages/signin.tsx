import { useQueryClient } from '@tanstack/react-query'
import { Button, Form, Input } from 'antd'
import { useState } from 'react'
import { call } from '../api/client'
import { Failure } from '../parts/bits'

const Brand = ({ text }: { text: string }) => (
  <div style={{ display: 'flex', gap: 12, alignItems: 'center', marginBottom: 20 }}>
    <img src="/mark.svg" alt="" width={38} />
    <div>
      <h1>Yarn Post</h1>
      <span className="quiet">{text}</span>
    </div>
  </div>
)

export function SignIn() {
  const queries = useQueryClient()
  const [error, setError] = useState<unknown>()
  const submit = async (v: { account: string; password: string }) => {
    try {
      await call('POST', '/session', {}, v)
      queries.invalidateQueries({ queryKey: ['session'] })
    } catch (e) {
      setError(e)
    }
  }
  return (
    <div className="signin">
      <Form layout="vertical" onFinish={submit} requiredMark={false}>
        <Brand text="Sign in" />
        <Failure error={error} />
        <Form.Item name="account" label="Account" rules={[{ required: true, message: 'Whose account?' }]}>
          <Input autoFocus autoComplete="username" />
        </Form.Item>
        <Form.Item name="password" label="Password" rules={[{ required: true, message: 'The password, please.' }]}>
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        <Button type="primary" htmlType="submit" block>
          Sign in
        </Button>
      </Form>
    </div>
  )
}

/** Replaces the one-time password of the first sign-in. */
export function NewPassword() {
  const queries = useQueryClient()
  const [error, setError] = useState<unknown>()
  const submit = async (v: { old: string; new: string }) => {
    try {
      await call('POST', '/password', {}, { old: v.old, new: v.new })
      queries.invalidateQueries({ queryKey: ['session'] })
    } catch (e) {
      setError(e)
    }
  }
  return (
    <div className="signin">
      <Form layout="vertical" onFinish={submit} requiredMark={false}>
        <Brand text="Choose your own password" />
        <p className="quiet">The one you signed in with works once. Choose another now, and sign in with it.</p>
        <Failure error={error} />
        <Form.Item name="old" label="One-time password" rules={[{ required: true }]}>
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        <Form.Item
          name="new"
          label="New password"
          rules={[{ required: true, min: 10, message: 'Ten characters at least.' }]}
        >
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        <Form.Item
          name="again"
          label="The same again"
          dependencies={['new']}
          rules={[
            { required: true, message: 'Once more, to be sure.' },
            ({ getFieldValue }) => ({
              validator: (_, v) =>
                v === getFieldValue('new') ? Promise.resolve() : Promise.reject(new Error('The two differ.')),
            }),
          ]}
        >
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        <Button type="primary" htmlType="submit" block>
          Keep it
        </Button>
      </Form>
    </div>
  )
}
