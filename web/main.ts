import './style.css'
