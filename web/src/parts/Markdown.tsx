/** Text that people wrote in Markdown (CommonMark). HTML in it is shown as text and never runs. */
import ReactMarkdown from 'react-markdown'

export default function Markdown({ text }: { text: string }) {
  return (
    <div className="markdown text-sm">
      <ReactMarkdown
        components={{
          // Images from elsewhere would tell others who reads here: their address is shown.
          img: ({ src, alt }) => <span className="mono">{`${alt ?? 'image'}: ${String(src ?? '')}`}</span>,
          a: ({ href, children }) => (
            <a className="link" href={href} rel="noreferrer noopener">
              {children}
            </a>
          ),
        }}
      >
        {text}
      </ReactMarkdown>
    </div>
  )
}
