import { theme, type ThemeConfig } from 'antd'

/** The dyes everything is coloured with. */
export const dyes = {
  ink: '#1F2A44',
  fleece: '#F7F4EE',
  indigo: '#35508C',
  teal: '#1F7A74',
  weld: '#B98512',
  madder: '#A23B2E',
  ash: '#8A8F98',
}

export const mono = 'ui-monospace, "SFMono-Regular", "DejaVu Sans Mono", Menlo, Consolas, monospace'

const shared = {
  borderRadius: 4,
  fontSize: 13,
  controlHeight: 30,
  controlHeightSM: 24,
  fontFamily: '"Source Sans 3", "Segoe UI", "DejaVu Sans", system-ui, sans-serif',
  fontFamilyCode: mono,
  motion: false,
}

export function themeFor(dark: boolean): ThemeConfig {
  return dark
    ? {
        algorithm: theme.darkAlgorithm,
        token: {
          ...shared,
          colorPrimary: '#8FA8DE',
          colorLink: '#8FA8DE',
          colorSuccess: '#5DBDB5',
          colorWarning: '#E0B04A',
          colorError: '#E58A7C',
          colorBgBase: '#171E2F',
          colorTextBase: '#ECE7DC',
          colorBgLayout: '#121826',
          colorBgContainer: '#1A2236',
          colorBgElevated: '#212B42',
          colorTextLightSolid: '#121826',
        },
        components: {
          Table: {
            cellPaddingBlockSM: 5,
            headerBg: '#202A41',
            headerColor: '#C9C6BE',
            rowHoverBg: '#212B42',
            rowSelectedBg: '#2D3347',
            rowSelectedHoverBg: '#33394F',
          },
        },
      }
    : {
        token: {
          ...shared,
          colorPrimary: dyes.indigo,
          colorLink: dyes.indigo,
          colorSuccess: dyes.teal,
          colorWarning: dyes.weld,
          colorError: dyes.madder,
          colorInfo: dyes.indigo,
          colorTextBase: dyes.ink,
          colorBgLayout: dyes.fleece,
          colorBgContainer: '#FFFDF9',
          colorBorderSecondary: '#E4DED1',
          colorBorder: '#CFC7B6',
        },
        components: {
          Table: {
            cellPaddingBlockSM: 5,
            headerBg: '#EFEAE0',
            headerColor: '#4A5268',
            rowHoverBg: '#F4EFE5',
            rowSelectedBg: '#F8EED8',
            rowSelectedHoverBg: '#F3E6C9',
          },
        },
      }
}
