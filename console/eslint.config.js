import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'src/api/gen'] },
  ...ts.configs.recommended,
  hooks.configs.flat.recommended,
)
